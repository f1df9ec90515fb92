"""Two players, two kits and two receivers at once: what leaves live is what the one file of both has, note for note."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.export import whole_session
from puresignal.core.export.song_builder import file_tracks
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.doubles import Doubles
from puresignal.core.path.identify import Identify
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.vary import Vary
from puresignal.core.path.velocity import Velocity
from puresignal.core.path.velocity_curve import Shape
from puresignal.core.session import session as edits
from puresignal.core.session.destination import Destination
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import TakeRef
from puresignal.core.session.track_settings import Delivery, TrackSettings, with_tracks
from puresignal.core.timing.session_time import Timeline
from puresignal.engine.router import Router
from puresignal.engine.router_config import from_bytes, lanes, to_bytes
from puresignal.engine.session_setup import setup_of
from puresignal.io import journal, note_map_file
from tests.engine.test_router import RATE, blocks, sent_messages

KIT = note_map_file.shipped("practice-five")
ROOM, GENERAL = note_map_file.shipped("boathouse-room"), note_map_file.shipped("general-midi")
BEGUN = 3 * 3600 * RATE
"""Frames of a clock that has run for three hours."""

SESSION = Session(
    name="Quarter Past Ferry",
    target=ROOM,
    # The second player's kit hangs on two boxes and has tracks of its own.
    inputs=(
        LiveInput("kit", source=KIT, output="drum room", ident="in1"),
        LiveInput("left box", source=KIT, output="loft", ident="in2", more=(("right box", 0),), own=True),
    ),
    destinations=(
        Destination("drum room", "synth a"), Destination("loft", "synth b", 5, GENERAL),
        Destination("spare sampler", "synth a", 12, GENERAL),
    ),
    sends=(("snare", ("snare", "clap")),),
    delivery=with_tracks(
        Delivery(),
        [
            TrackSettings("clap", title="Clap", port="spare sampler"), TrackSettings("in2:kick", channel=3),
            TrackSettings("in2:hat", port="drum room"), TrackSettings("ride", out=False),
        ],
    ),
    path=CleaningPath(
        Identify(splash_ms=0.0), doubles=Doubles(learn=False),
        velocity=Velocity(shapes=(("*", Shape(scale=0.9)),)), vary=Vary(True, Scoped(14.0), seed=7),
    ),
)  # fmt: skip


def shared_out(messages, chance):
    """The second player's messages, on one box or the other, each note on its own."""
    box = {note: int(chance.integers(1, 3)) for note in range(128)}
    return [(frame, box[data[1]] if data[0] & 0xF0 in (0x80, 0x90) else 1, data) for frame, _, data in messages]


def takes_of(session, messages):
    """What the recorder makes of it: a take for each input, in the session."""
    ports = ("kit", "left box", "right box")
    materials = {}
    for one in session.inputs:
        own = [port for port, _ in one.listens]
        rows = [(f / RATE, own.index(ports[p]), data) for f, p, data in messages if ports[p] in own]
        take = journal.to_take(
            rows, tuple(own), one.ident, one.port, TempoMap.steady(120), messages[0][0] / RATE, one_device=True
        )
        materials[take.ident] = take
        ref = TakeRef(take.ident, take.name, one.source, input=one.ident, own=one.tracks, channels=f"{one.ident}:")
        session = edits.with_take(session, ref)
    return edits.with_timeline(session, Timeline.steady(97)), materials


def in_file(session, materials, start):
    """(frame, port, channel, note, velocity) of every note-on of the result, at the ports that it is for."""
    made = whole_session.result(session, materials)
    assert made.outcome.tally.balances()
    entries = {entry.index: entry for entry in file_tracks(made.outcome, whole_session.delivery_of(session))}
    rows, notes = [], made.outcome.output_notes
    for i in range(len(notes)):
        entry = entries[int(notes.track[i])]
        own = session.inputs[0 if made.take.ports[int(notes.port[i])].name == "kit" else 1]
        port = entry.settings.port or session.destination(own.output).port
        if entry.out:
            frame = start + round(float(notes.start[i]) * RATE)
            channel = entry.channel or int(notes.channel[i])
            rows.append((frame, port, channel, int(notes.note[i]), int(notes.velocity[i])))
    return sorted(rows)


@given(st.integers(0, 500), st.sampled_from([64, 256]))
@settings(max_examples=10, deadline=None)
def test_live_is_what_the_one_file_of_both_has(seed, size):
    chance = np.random.default_rng(seed)
    first, second = sent_messages(seed, bars=3)[1], shared_out(sent_messages(seed + 1, bars=3)[1], chance)
    both = sorted([*first, *second], key=lambda row: (row[0], row[1]))
    # A moment in which both play nothing lets each message have its own frame, as one wire after the other would.
    both = [(BEGUN + frame, port, data) for frame, port, data in both]
    setup = from_bytes(to_bytes(setup_of(SESSION)))
    assert setup.inputs == ("kit", "left box", "right box")
    assert set(setup.outputs) == {"synth a", "synth b"}
    router = Router(RATE, lanes(setup))
    out, at = [], 0
    for begin in range(BEGUN, both[-1][0] + 6 * RATE, size):
        here = []
        while at < len(both) and both[at][0] < begin + size:
            here.append((both[at][0] - begin, *both[at][1:]))
            at += 1
        out += [(begin + o, setup.outputs[port], data) for o, port, data in router.cycle(begin, size, here)]
    live = sorted((f, port, 1 + (m[0] & 15), m[1], m[2]) for f, port, m in out if m[0] & 0xF0 == 0x90)
    assert router.sounding.is_silent()
    session, materials = takes_of(SESSION, both)
    written = in_file(session, materials, both[0][0])
    assert {row[1:3] for row in written} >= {("synth b", 5), ("synth b", 3), ("synth a", 12)}
    assert live == written


def test_velocities_vary_alike_however_often_and_in_what_company_they_are_played():
    played = sent_messages(3, bars=2)[1]
    alone = replace(SESSION, inputs=SESSION.inputs[:1], sends=(), delivery=Delivery())
    out = [blocks(Router(RATE, lanes(setup_of(alone))), played, size, 8 * RATE) for size in (64, 1024)]
    assert out[0] == out[1]
    # Half of the notes left out: those that stay are as loud as before.
    fewer = [row for row in played if row[2][1] % 2 or row[2][0] & 0xF0 not in (0x80, 0x90)]
    rest = blocks(Router(RATE, lanes(setup_of(alone))), fewer, 64, 8 * RATE)
    before = {(f, m) for f, m in out[0] if m[0] & 0xF0 == 0x90}
    kept = [(f, m) for f, m in rest if m[0] & 0xF0 == 0x90]
    assert len(kept) > 10
    assert sum((f, m) in before for f, m in kept) >= len(kept) - 2
