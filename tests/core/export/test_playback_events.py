"""What playback sends: the clean notes of the tracks that are heard, on their ports, nothing left sounding."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.diagnosis import monitoring
from puresignal.core.export.playback_events import outputs_of, score
from puresignal.core.export.song_builder import file_tracks
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.core.path.target import Target
from puresignal.core.path.velocity import Velocity
from puresignal.core.path.velocity_curve import Shape
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session
from puresignal.core.session.track_settings import Delivery, TrackSettings, with_track
from puresignal.demo import demo_session as demo

SOUND = "sound"


@pytest.fixture(scope="module")
def outcome():
    session, (take,) = demo.build()
    ref = session.take()
    return run(take, CleaningPath(), make_context(take, ref.source, session.target, CleaningPath()))


def sounding(made):
    """Notes left sounding after a score, and the largest number of one note at once."""
    held, most = {}, 0
    for output, status, note, velocity in made.data.tolist():
        key = (output, status & 0x0F, note)
        if status & 0xF0 == 0x90 and velocity:
            held[key] = held.get(key, 0) + 1
            most = max(most, held[key])
        elif status & 0xF0 == 0x80:
            held[key] -= 1
    return {key: n for key, n in held.items() if n}, most


def test_every_clean_note_is_sent_once_at_its_moment_and_ends(outcome):
    made = score(outcome, Delivery(), (SOUND,), SOUND)
    ons = (made.data[:, 1] & 0xF0) == 0x90
    assert np.array_equal(made.at[ons], np.sort(outcome.output_notes.start))
    assert sorted(made.data[ons, 2].tolist()) == sorted(outcome.output_notes.note.tolist())
    assert (np.diff(made.at) >= 0).all()
    assert sounding(made) == ({}, 1)


def test_ports_channels_programs_mute_and_solo(outcome):
    delivery = with_track(Delivery(), TrackSettings("snare", port="room:in", bank=300, program=12, level=90, channel=4))
    delivery = with_track(delivery, TrackSettings("kick", muted=True))
    outputs = outputs_of(outcome, delivery, SOUND)
    assert set(outputs) == {SOUND, "room:in"}
    made = score(outcome, delivery, outputs, SOUND)
    room = outputs.index("room:in")
    assert made.first == (
        (room, b"\xb3\x00\x02"), (room, b"\xb3\x20\x2c"), (room, b"\xc3\x0c"), (room, b"\xb3\x07\x5a"),
    )  # fmt: skip
    there = made.data[made.data[:, 0] == room]
    assert {s & 0x0F for s in there[:, 1].tolist()} == {3}
    tracks = {t.track.key: t.index for t in file_tracks(outcome, delivery)}
    kicks = set(outcome.output_notes.note[outcome.output_notes.track == tracks["kick"]].tolist())
    assert not kicks & set(made.data[:, 2][(made.data[:, 1] & 0xF0) == 0x90].tolist())
    alone = with_track(delivery, TrackSettings("hat", solo=True))
    hats = outcome.output_notes.note[outcome.output_notes.track == tracks["hat"]]
    only = score(outcome, alone, outputs, SOUND)
    assert sorted(only.data[(only.data[:, 1] & 0xF0) == 0x90, 2].tolist()) == sorted(hats.tolist())


def test_a_track_may_be_early_or_late(outcome):
    usual = score(outcome, Delivery(), (SOUND,), SOUND)
    moved = score(
        outcome,
        Delivery((TrackSettings("kick", offset=-20.0), TrackSettings("snare", offset=35.0))),
        (SOUND,),
        SOUND,
    )
    tracks = {t.track.key: t.index for t in file_tracks(outcome, Delivery())}
    notes = outcome.output_notes
    for key, late in (("kick", -0.02), ("snare", 0.035), ("hat", 0.0)):
        mine = notes.track == tracks[key]
        numbers = set(notes.note[mine].tolist())

        def onsets(made, numbers=numbers):
            on = (made.data[:, 1] & 0xF0) == 0x90
            return made.at[on & np.isin(made.data[:, 2], list(numbers))]

        assert np.allclose(onsets(moved), np.maximum(onsets(usual) + late, 0.0), atol=1e-9)
    assert (np.diff(moved.at) >= 0).all()
    assert sounding(moved)[0] == {}


def test_sounding_notes_can_be_queried():
    session = edits.with_inputs(
        Session(),
        (
            LiveInput("kit", output="room"),
            LiveInput("pads", monitor=False),
            LiveInput("keys", armed=False, monitor=False),
        ),
    )
    assert monitoring.lines(session, (), True, None) == (
        "kit: monitored through room", "pads: not monitored, Monitor is off; recorded all the same",
        "keys: not monitored, Monitor is off", "Playback: stopped",
    )  # fmt: skip
    assert "live input is off" in monitoring.lines(session, (), False, "clean")[0]
    assert monitoring.armed(session.inputs[2], True) == {"armed": True, "monitor": True}
    assert monitoring.armed(session.inputs[0], False) == {"armed": False}
    alone = monitoring.armed_alone(session.inputs, 1)
    assert [(one.armed, one.monitor) for one in alone] == [(False, True), (True, True), (False, False)]


def test_a_track_says_why_it_is_not_heard(outcome):
    delivery = with_track(with_track(Delivery(), TrackSettings("snare", solo=True)), TrackSettings("kick", muted=True))
    delivery = with_track(delivery, TrackSettings("ride", out=False))
    session = Session(delivery=delivery)
    said = {t.track.key: monitoring.track_words(t, session) for t in file_tracks(outcome, delivery)}
    assert (said["snare"], said["kick"], said["hat"], said["ride"]) == (
        "solo",
        "muted",
        "other tracks are soloed",
        "not sent",
    )
    line = monitoring.lines(session, file_tracks(outcome, delivery), True, "clean")[-1]
    assert "Kick (muted)" in line
    assert "Snare" not in line


def test_fine_velocities_are_played_back_with_their_prefix_right_before_their_note():
    session, (take,) = demo.build()
    shape = (("snare", Shape(curve=((1, 1), (64, 90), (127, 127)))),)
    path = CleaningPath(velocity=Velocity(shapes=shape), target=Target(fine=True))
    result = run(take, path, make_context(take, session.take().source, session.target, path))
    made = score(result, Delivery(), (SOUND,), SOUND)
    prefix = (made.data[:, 1] & 0xF0 == 0xB0) & (made.data[:, 2] == 88)
    places = np.flatnonzero(prefix)
    between = result.output_notes.velocity % 1 != 0
    assert len(places) == np.count_nonzero(between) > 50
    after = made.data[places + 1]
    assert (after[:, 1] & 0xF0 == 0x90).all()
    assert np.array_equal(made.at[places], made.at[places + 1])
    told = after[:, 3] + (made.data[places, 3] - 63.5) / 128
    assert np.sort(told) == pytest.approx(np.sort(result.output_notes.velocity[between]), abs=1 / 128)
    assert sounding(made) == ({}, 1)
