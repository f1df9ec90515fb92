"""A session's file is each of its takes alone, laid together: whatever is placed, cropped, looped, chosen or out."""

from __future__ import annotations

import itertools
from collections import Counter
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.export import whole_session
from puresignal.core.path.cleaning_path import with_faults, with_unmapped
from puresignal.core.path.several_takes import common_ppq
from puresignal.core.path.tally import Action
from puresignal.core.path.tidy import Tidy
from puresignal.core.session import session as edits
from puresignal.core.session.arrangement import Alternatives
from puresignal.core.session.destination import Destination
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import DRAWN, IMPORTED, DrawnNote, Pass, TakeRef
from puresignal.core.session.track_settings import Delivery, TrackSettings
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline
from tests.core.path.test_several_takes import KIT, NOTES, PATH, ROOM, file_take, kit_take, rows_of

PLAIN = with_unmapped(with_faults(PATH, False), "keep")


@st.composite
def sessions(draw):
    """Random takes of several kinds on a timeline of steps and glides."""
    tempos = [TempoPoint(0, draw(st.floats(50, 200)), draw(st.booleans()))]
    tempos += [TempoPoint(b, draw(st.floats(50, 200)), draw(st.booleans())) for b in (8.0, 24.0)]
    timeline = Timeline(tuple(tempos), (MeterPoint(1, *draw(st.sampled_from([(4, 4), (3, 4), (7, 8)]))),))
    session, takes = Session(name="Ferry", target=ROOM, path=PLAIN, timeline=timeline), {}
    for number in range(draw(st.integers(1, 4))):
        ident = f"t{number}"
        ref = TakeRef(ident, ident, KIT, beat=float(draw(st.integers(0, 12))))
        kind = draw(st.sampled_from(["kit", "file", "drawn"]))
        if kind == "kit":
            takes[ident] = kit_take(draw(st.integers(1, 40)), 1)
            if draw(st.booleans()):
                cuts = sorted(draw(st.lists(st.floats(0, 2), min_size=2, max_size=4, unique=True)))
                rounds = [
                    Pass(a, b, 8.0, draw(st.booleans()), draw(st.sampled_from(["", "clap"])))
                    for a, b in itertools.pairwise(cuts)
                ]
                ref = replace(ref, passes=tuple(rounds))
        elif kind == "file":
            step = st.tuples(st.integers(0, 3000), st.sampled_from(NOTES), st.integers(1, 127), st.integers(1, 300))
            rows = draw(st.lists(step, min_size=1, max_size=12))
            takes[ident] = file_take(rows, ppq=draw(st.sampled_from([96, 480])))
            ref = replace(ref, kind=IMPORTED)
        else:
            notes = draw(st.lists(st.tuples(st.integers(0, 60), st.integers(1, 8)), max_size=8))
            drawn = (DrawnNote(i, at / 4, long / 4, 40 + i, 80.0, 3) for i, (at, long) in enumerate(notes))
            ref = replace(ref, kind=DRAWN, drawn=tuple(drawn))
        if draw(st.booleans()):
            ref = replace(ref, begin=draw(st.floats(0, 1)), end=draw(st.floats(1.1, 4)))
        ref = replace(ref, is_in=draw(st.integers(0, 4)) > 0, follows=draw(st.sampled_from(["", "beats", "clock"])))
        session = edits.with_take(session, ref)
    if len(session.takes) > 1 and draw(st.booleans()):
        names = ("t0", "t1")
        choice = tuple(
            (bar, draw(st.sampled_from(names))) for bar in sorted(draw(st.sets(st.integers(1, 6), max_size=3)))
        )
        session = replace(session, alternatives=(Alternatives("Groove", names, choice),))
    if draw(st.booleans()):
        # Muting is for listening: files have the track all the same.
        session = edits.with_tracks(session, [TrackSettings("snare", muted=True), TrackSettings("kick", solo=True)])
    return session, takes


@given(sessions())
@settings(max_examples=80, deadline=None)
def test_together_is_each_alone_but_for_what_the_tally_names(case):
    session, takes = case
    ppq = common_ppq([one.take for one in whole_session.placed_takes(session, takes)] or list(takes.values()))
    made = whole_session.result(session, takes, ppq)
    assert made.outcome.tally.balances()
    together, alone = rows_of(whole_session.song_of(session, made)), Counter()
    for ref in session.takes:
        if ref.is_in:
            rest = [replace(other, is_in=other.ident == ref.ident) for other in session.takes]
            one = replace(session, takes=tuple(rest))
            file = whole_session.result(one, takes, ppq)
            assert file.outcome.tally.balances()
            alone += rows_of(whole_session.song_of(one, file))
    entries = made.outcome.tally.entries
    by_tidy = entries.stage == int(Tidy.stage)
    changed = len(np.unique(entries.origin[by_tidy & (entries.action == Action.CHANGED)]))
    removed = int((by_tidy & (entries.action == Action.REMOVED)).sum())
    # What only one of the two files has is named: removed, or changed and so another row in each.
    assert sum((alone - together).values()) <= removed + changed
    assert sum((together - alone).values()) <= changed


def test_a_take_is_played_back_where_its_input_sends_what_is_played():
    inputs = (LiveInput("kit:out", ident="a", output="Sampler"), LiveInput("keys:out", ident="b", output="synth:in"))
    refs = (
        TakeRef("one", "One", input="a"),
        TakeRef("two", "Two", input="b", own="keys:", channels="2."),
        TakeRef("file", "File", own="f:"),
    )
    session = Session(inputs=inputs, takes=refs, destinations=(Destination("Sampler", "sampler:in"),))
    delivery = Delivery((TrackSettings("snare", port="elsewhere:in"),))
    keys = ["kick", "snare", "keys:lead", "2./1", "f:bass"]
    played = whole_session.played_back_by(session, delivery, keys, "Built-in sound")
    assert [played.track(key).port for key in keys] == [
        "sampler:in", "elsewhere:in", "synth:in", "synth:in", "Built-in sound"
    ]  # fmt: skip


def test_a_track_of_two_inputs_that_send_to_two_places_is_played_back_by_the_built_in_sound():
    inputs = (LiveInput("kit:out", ident="a", output="one:in"), LiveInput("pads:out", ident="b", output="two:in"))
    session = Session(inputs=inputs, takes=(TakeRef("one", "One", input="a"), TakeRef("two", "Two", input="b")))
    played = whole_session.played_back_by(session, Delivery(), ["kick"], "Built-in sound")
    assert played.track("kick").port == "Built-in sound"


def test_a_destination_makes_early_or_late_what_goes_there():
    inputs = (LiveInput("kit:out", ident="a", output="Sampler"), LiveInput("keys:out", ident="b", output="synth:in"))
    refs = (TakeRef("one", "One", input="a"), TakeRef("two", "Two", input="b", own="keys:"))
    there = (Destination("Sampler", "sampler:in", offset=-12.0), Destination("Slow", "slow:in", offset=20.0))
    own = Delivery((TrackSettings("snare", port="Slow", offset=5.0), TrackSettings("hat", offset=3.0)))
    session = Session(inputs=inputs, takes=refs, destinations=there, delivery=own)
    made = whole_session.delivery_of(session, ["kick", "snare", "hat", "keys:lead"])
    assert [made.track(key).offset for key in ("kick", "snare", "hat", "keys:lead")] == [-12.0, 25.0, -9.0, 0.0]


def test_an_offset_moves_the_notes_of_a_file():
    session, takes = Session(path=PLAIN), {"f": file_take([(480, 38, 90, 60), (960, 36, 90, 60)])}
    session = edits.with_take(session, TakeRef("f", "One", kind=IMPORTED))

    def ticks(session):
        song = whole_session.song_of(session, whole_session.result(session, takes))
        on = [(t.messages.status & 0xF0 == 0x90) & (t.messages.data2 > 0) for t in song.tracks]
        found = {}
        for track, mask in zip(song.tracks, on, strict=True):
            found.update(zip(track.messages.data2[mask].tolist(), track.messages.tick[mask].tolist(), strict=True))
        return found, song.tempo

    before, tempo = ticks(session)
    keys = [t.key for t in whole_session.result(session, takes).outcome.tracks]
    late = Delivery(tuple(TrackSettings(key, offset=30.0) for key in keys))
    after, _ = ticks(replace(session, delivery=late))
    assert set(after) == set(before)
    seconds = [tempo.ticks_to_seconds(np.array(sorted(made.values()))) for made in (before, after)]
    assert np.allclose(seconds[1] - seconds[0], 0.03, atol=0.001)
