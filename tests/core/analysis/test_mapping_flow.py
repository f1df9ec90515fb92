from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.analysis.mapping_flow import flows, hat_picture, pedal_values
from puresignal.core.export.song_builder import Clip, build_song, file_tracks
from puresignal.core.kit.note_map import with_goal, with_meaning
from puresignal.core.path import note_selection
from puresignal.core.path.cleaning_path import CleaningPath, StageCache, make_context, run
from puresignal.core.path.doubles import DOUBLE
from puresignal.core.path.identify import UNMAPPED_NOTE
from puresignal.core.path.tally import Action
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session.track_settings import Delivery, TrackSettings, moved, with_order, with_track
from puresignal.demo import demo_session as demo
from tests.conftest import hit, take_of
from tests.core.path.test_rules import KIT, ROOM


def shown(rows=None, source=KIT, target=ROOM, verdicts=None):
    take = take_of(rows) if rows is not None else demo.take()
    context = make_context(take, source, target, CleaningPath(), verdicts)
    return take, context, run(take, CleaningPath(), context)


def test_ribbons_carry_every_hit_that_has_a_way():
    session, (take,) = demo.build()
    context = make_context(take, session.take().source, session.target, CleaningPath())
    outcome = run(take, CleaningPath(), context)
    made = flows(outcome, context)
    unmapped = sum(a.hits for a in made.arriving if a.unmapped)
    assert unmapped == outcome.tally.removed()[UNMAPPED_NOTE]
    assert sum(r.hits for r in made.named) + unmapped == outcome.tally.arrived
    assert sum(r.hits for r in made.sent) == sum(m.hits for m in made.meanings)
    assert [a.unmapped for a in made.arriving] == sorted((a.unmapped for a in made.arriving), reverse=True)


def test_a_note_may_go_to_several_and_a_substitute_is_marked():
    rows = [*hit(0.0, 36), *hit(0.5, 40), (1.0, 0xB9, 4, 0), *hit(1.1, 8), (2.0, 0xB9, 4, 127), *hit(2.1, 8)]
    _, context, outcome = shown(rows)
    made = flows(outcome, context)
    kick = next(i for i, m in enumerate(made.meanings) if m.name == "kick")
    assert sorted(made.leaving[r.last].note for r in made.sent if r.first == kick) == [20, 24]
    rim = next(i for i, m in enumerate(made.meanings) if m.name == "snare.rim")
    assert made.meanings[rim].stand_in == "snare.head"
    assert [r.stand_in for r in made.sent if r.first == rim] == [True]
    hat = next(i for i, a in enumerate(made.arriving) if a.note == 8)
    assert {made.meanings[r.last].name for r in made.named if r.first == hat} == {"hat.open", "hat.closed"}


def test_show_unplayed_shows_both_maps():
    _, context, outcome = shown(hit(0.0, 36))
    some, whole = flows(outcome, context), flows(outcome, context, whole=True)
    assert len(some.arriving) == 1
    assert {a.note for a in whole.arriving} == {p.note for p in KIT.pads}
    assert {e.note for e in whole.leaving} >= {p.note for p in ROOM.pads}


def test_maps_are_set_right_by_one_edit():
    rows = hit(0.0, 77, 90)
    cured = with_meaning(KIT, 10, 77, "tom1.head")
    _, _, outcome = shown(rows, cured)
    assert outcome.output_notes.note.tolist() == [40]
    again = with_meaning(cured, 10, 77, "snare.head")
    assert len(again.pads) == len(cured.pads)
    assert with_meaning(again, 10, 77, None).pads == KIT.pads
    other = with_meaning(KIT, 3, 60, "aux1")
    assert other.pads[-1].channel == 3
    _, _, outcome = shown(rows, cured, with_goal(ROOM, "tom1.head", (41, 42)))
    assert outcome.output_notes.note.tolist() == [41, 42]
    assert with_goal(ROOM, "tom1.head", ()).pad_for("tom1.head") is None


def test_the_pedals_travel_and_the_openings_of_the_hits():
    rows = [(0.0, 0xB9, 4, 100), *hit(0.1, 8), (0.2, 0xB9, 4, 20), (0.3, 0xBA, 4, 3), *hit(0.4, 8)]
    take, context, outcome = shown(rows)
    values = pedal_values(context, take.events.status, take.events.data1, take.events.data2)
    picture = hat_picture(outcome, context, values)
    assert (picture.lowest, picture.highest) == (20, 100)
    assert picture.closedness.tolist() == pytest.approx([100 / 127, 20 / 127], abs=1e-6)
    assert picture.names == ("hat.closed", "hat.open")


def test_all_alike_are_of_one_pad_and_one_reason():
    rows = [r for i in range(3) for r in (*hit(i, 38, 100, 0.01), *hit(i + 0.015, 38, 20, 0.01), *hit(i + 0.2, 36, 99))]
    rows += [*hit(5.0, 36, 100, 0.01), *hit(5.015, 36, 20, 0.01)]
    _, _, outcome = shown(rows)
    doubles = note_selection.removed(outcome, DOUBLE)
    assert len(doubles) == 4
    assert note_selection.alike(outcome, int(doubles[0])).tolist() == doubles[:3].tolist()
    assert note_selection.reason_removed(outcome, int(doubles[0])) == DOUBLE
    kept = outcome.output_notes.origin[outcome.output_notes.articulation == outcome.vocabulary.index("snare.head")]
    assert note_selection.alike(outcome, int(kept[0])).tolist() == kept.tolist()


def test_a_hit_decided_narrowly_is_doubtful_either_way():
    # Soon enough after a stroke a tap is taken for its double trigger; near the line both decisions are doubtful.
    removed, doubtful = {}, {}
    for ms in range(30, 90, 3):
        tap = hit(1 + ms / 1000, 38, 44, 0.01)
        _, _, outcome = shown([*hit(0.0, 38, 100, 0.01), *hit(0.015, 38, 20, 0.01), *hit(1.0, 38, 100, 0.01), *tap])
        removed[ms] = outcome.tally.removed()[DOUBLE]
        doubtful[ms] = [
            float(outcome.input_notes.start[outcome.input_notes.origin == origin][0])
            for origin in note_selection.doubtful(outcome)
        ]
    line = [ms for ms in removed if removed[ms] == 2][-1]
    assert all(removed[ms] == (2 if ms <= line else 1) for ms in removed)
    assert doubtful[line] == [pytest.approx(1 + line / 1000)]
    assert doubtful[line + 3] == [pytest.approx(1 + (line + 3) / 1000)]
    assert doubtful[30] == doubtful[87] == []


def test_the_stage_cache_gives_the_same_result_as_a_fresh_run():
    from dataclasses import replace

    session, (take,) = demo.build()
    source, cache = session.take().source, StageCache()
    base = CleaningPath()
    tries = [
        (base, source, {}),
        (replace(base, doubles=replace(base.doubles, ratio=0.2)), source, {}),
        (replace(base, ends=replace(base.ends, given_ms=80.0)), source, {}),
        (replace(base, identify=replace(base.identify, unmapped="keep")), source, {}),
        (base, source, {40: Verdict(keep=False)}),
        (base, session.target, {}),
        (replace(base, split=replace(base.split, by="one")), source, {}),
        (base, source, {}),
    ]
    for path, kit, verdicts in tries:
        context = cache.context(take, kit, session.target, path, verdicts)
        got = run(take, path, context, cache)
        wanted = run(take, path, make_context(take, kit, session.target, path, verdicts))
        for name in type(got.output_notes).DTYPES:
            assert np.array_equal(
                getattr(got.output_notes, name), getattr(wanted.output_notes, name), equal_nan=name == "closedness"
            )
        assert np.array_equal(got.input_notes.track, wanted.input_notes.track)
        assert got.tally.removed() == wanted.tally.removed()


# Delivery


def test_tracks_take_name_colour_channel_and_order():
    _, _, outcome = shown([*hit(0.0, 36), *hit(0.5, 38), *hit(1.0, 49)])
    delivery = with_track(Delivery(), TrackSettings("snare", "Close", "tom", 4))
    delivery = with_track(delivery, TrackSettings("kick", out=False))
    delivery = with_order(delivery, ("crash1", "snare"))
    tracks = file_tracks(outcome, delivery)
    assert [(t.track.key, t.title, t.colour, t.channel, t.out) for t in tracks] == [
        ("crash1", "Crash 1", "cymbal", None, True), ("snare", "Close", "tom", 4, True),
        ("kick", "Kick", "kick", None, False),
    ]  # fmt: skip
    song = build_song(outcome, take_of([]), delivery)
    assert [t.name for t in song.tracks[1:]] == ["Crash 1", "Close"]
    assert {int(s) & 0x0F for s in song.tracks[2].messages.status} == {3}


def test_plain_settings_are_not_kept():
    delivery = with_track(Delivery(), TrackSettings("snare", "Close"))
    assert with_track(delivery, TrackSettings("snare")) == Delivery()


def test_moving_keeps_the_chosen_together_and_stops_at_the_ends():
    keys = ("a", "b", "c", "d")
    assert moved(keys, {"b", "c"}, -1) == ("b", "c", "a", "d")
    assert moved(keys, {"b", "c"}, 1) == ("a", "d", "b", "c")
    assert moved(keys, {"a", "b"}, -1) == keys


def test_a_clip_of_some_tracks_or_some_bars():
    take, _, outcome = shown([*hit(0.1, 36), *hit(2.2, 38), *hit(4.3, 49)])
    song = build_song(outcome, take, Delivery(), Clip(frozenset({"kick"})))
    assert [t.name for t in song.tracks[1:]] == ["Kick"]
    song = build_song(outcome, take, Delivery(), Clip(None, 2.0, 4.0))
    inside = [t for t in song.tracks[1:] if len(t.messages)]
    assert [t.name for t in inside] == ["Snare"]
    assert song.tempo.ticks_to_seconds(inside[0].messages.tick[:1])[0] == pytest.approx(0.2, abs=1e-3)


def test_the_tally_names_only_what_the_stage_itself_did():
    _, _, outcome = shown([(1.0, 0x99, 38, 100), (1.015, 0x99, 38, 30), (1.06, 0x89, 38, 0), (1.08, 0x89, 38, 0)])
    stage = next(e for e in outcome.tally.trace(int(outcome.tally.origins(Action.REMOVED)[0]))).stage
    assert outcome.tally.touched(stage) == 1
