"""Notes on tracks of their own, on several tracks, and at receivers of their own."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.midi.events import Port
from puresignal.core.path.cleaning_path import CleaningPath, LivePath, as_live, make_context, messages, run
from puresignal.core.path.context import Context, Wiring
from puresignal.core.path.crosstalk import Crosstalk
from puresignal.core.path.doubles import Doubles
from puresignal.core.path.identify import Identify
from puresignal.core.path.live import OFF, ON
from puresignal.core.path.split import LAYERED
from puresignal.core.path.target import ALSO_SENT
from puresignal.io import note_map_file
from tests.core.path.test_several_takes import KIT, ROOM, kit_take

GENERAL = note_map_file.shipped("general-midi")
# What is learnt from a whole take is not known while it is played.
PATH = CleaningPath(Identify(splash_ms=0.0), doubles=Doubles(learn=False), crosstalk=Crosstalk(learn=False))
LAYERS = Wiring(sends=(("snare", ("snare", "clap", "low")), ("kick", ("low",))), targets=(("clap", GENERAL),))


def keys_of(outcome, notes):
    return [outcome.tracks[t].key for t in notes.track.tolist()]


def test_an_input_of_its_own_has_tracks_of_its_own_with_its_name():
    take = kit_take(4, 2)
    context = make_context(take, KIT, ROOM, PATH, wiring=Wiring("in2:", "Loft kit", "in2:"))
    outcome = run(take, PATH, context)
    assert all(key.startswith("in2:") for key in keys_of(outcome, outcome.output_notes))
    titles = {track.key: track.title for track in outcome.tracks}
    assert titles["in2:snare"] == "Loft kit: Snare"
    assert "in2:0/10" in titles


def test_a_layer_is_the_same_hit_once_more_on_its_track_and_the_tally_says_so():
    take = kit_take(4, 4)
    plain = run(take, PATH, make_context(take, KIT, ROOM, PATH))
    layered = run(take, PATH, make_context(take, KIT, ROOM, PATH, wiring=LAYERS))
    snares = [i for i, key in enumerate(keys_of(plain, plain.output_notes)) if key == "snare"]
    kicks = keys_of(plain, plain.output_notes).count("kick")
    keys = keys_of(layered, layered.output_notes)
    assert [keys.count(key) for key in ("snare", "clap", "kick")] == [len(snares), len(snares), 0]
    assert keys.count("low") == len(snares) + kicks
    assert layered.tally.balances()
    assert layered.tally.added()[LAYERED] == 2 * len(snares)
    # Struck as hard, and on the note that the layer's own receiver expects.
    clap = layered.output_notes.take(np.array([key == "clap" for key in keys]))
    assert clap.start.tolist() == plain.output_notes.start[snares].tolist()
    assert clap.velocity.tolist() == plain.output_notes.velocity[snares].tolist()
    wanted = {pad.note for pad in GENERAL.pads if pad.articulation.startswith("snare")}
    assert set(clap.note.tolist()) <= wanted
    # What was played is still one note for each hit.
    assert len(layered.input_notes) == len(plain.input_notes)


def test_layers_at_a_receiver_that_sends_two_notes_are_each_told_apart():
    pads = tuple(replace(p, also=(99,)) if p.articulation == "snare.head" else p for p in ROOM.pads)
    take, wiring = kit_take(4, 2), Wiring(sends=(("snare", ("snare", "clap")),))
    outcome = run(take, PATH, make_context(take, KIT, replace(ROOM, pads=pads), PATH, wiring=wiring))
    assert outcome.tally.balances()
    notes = outcome.output_notes
    of_a_hit = set(zip(notes.origin.tolist(), notes.branch.tolist(), strict=True))
    assert len(of_a_hit) == len(notes)
    assert outcome.tally.added()[ALSO_SENT] > 0


@given(st.integers(0, 200), st.sampled_from([0.0, 4.0, 8.0]))
@settings(max_examples=20, deadline=None)
def test_layers_are_the_same_live_and_afterwards(seed, lookahead):
    take = kit_take(seed, 2)
    path = replace(PATH, crosstalk=replace(PATH.crosstalk, lookahead_ms=lookahead, live_ms=lookahead))
    context = Context(KIT, ROOM, take.ports or (Port(""),), take.length, "drum", wiring=LAYERS)
    outcome = run(take, path, context)
    live = LivePath(as_live(path), context)
    events = [e for row in messages(take.events) for e in live.message(*row)] + live.finish(take.length + 10)
    ons = sorted((e.at, e.origin, e.branch, e.track, e.note, round(e.velocity)) for e in events if e.kind == ON)
    notes = outcome.output_notes
    columns = (notes.start, notes.origin, notes.branch, notes.track, notes.note, np.rint(notes.velocity).astype(int))
    assert ons == sorted(zip(*(column.tolist() for column in columns), strict=True))
    assert sum(e.kind == OFF for e in events) == len(ons)
    assert live.stages[4].held() == 0
