"""Rendering through ports in real time: an instrument on a real server plays, and what comes back is in step."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import soundfile

from puresignal.commands import rendering
from puresignal.commands.rendering import Renderer, RenderJob
from puresignal.core.errors import PureSignalError, StoppedError
from puresignal.core.session import session as edits
from puresignal.engine import outside_render
from tests.commands.test_export import SESSION, TAKES
from tests.commands.test_render import rendered
from tests.engine.conftest import prompt, server  # noqa: F401 - fixtures

DELAY, RATE = 0.037, 48_000


class Instrument:
    """Answers each note-on with a fading tone of its pitch and loudness, a while later."""

    def __init__(self, name: str):
        import jack

        self.client = jack.Client(name, no_start_server=True, use_exact_name=True)
        self.inp = self.client.midi_inports.register("in")
        self.outs = [self.client.outports.register(side) for side in ("left", "right")]
        self.rate = self.client.samplerate
        time = np.arange(round(0.25 * self.rate)) / self.rate
        self.fade = np.exp(-time / 0.06).astype(np.float32)
        self.time = time
        self.got: list[tuple[int, bytes]] = []
        self.sounding: list[tuple[int, np.ndarray]] = []
        self.client.set_process_callback(self._process)
        self.client.activate()

    def _process(self, frames):
        now = self.client.last_frame_time
        for offset, data in self.inp.incoming_midi_events():
            message = bytes(data)
            self.got.append((now + offset, message))
            if message[0] & 0xF0 == 0x90 and message[2]:
                tone = np.cos(2 * np.pi * 55 * 2 ** (message[1] / 24) * self.time) * self.fade * message[2] / 400
                self.sounding.append((now + offset + round(DELAY * self.rate), tone.astype(np.float32)))
        block = np.zeros(frames, np.float32)
        for at, tone in self.sounding:
            first, last = max(0, at - now), min(frames, at + len(tone) - now)
            if last > first:
                block[first:last] += tone[now + first - at : now + last - at]
        self.sounding = [one for one in self.sounding if one[0] + len(one[1]) > now]
        for port in self.outs:
            port.get_array()[:] = block


@pytest.fixture
def instrument(server):  # noqa: F811
    made = Instrument("Quay rack")
    yield made
    made.client.deactivate()
    made.client.close()


def to_the_rack(session, *keys):
    return edits.with_tracks(
        session, [replace(session.delivery.track(key), port="Quay rack", program=4) for key in keys]
    )


def onsets(sound):
    """Seconds at which a sound begins after silence."""
    loud = np.abs(sound).max(axis=1) > 0.004
    quiet = np.concatenate([[True], ~loud[:-1]])
    at = np.flatnonzero(loud & quiet) / RATE
    return at[np.concatenate([[True], np.diff(at) > 0.1])] if len(at) else at


def test_what_comes_back_is_at_the_place_of_its_notes_and_its_delay_is_left_out(instrument, tmp_path):
    session = to_the_rack(SESSION, "kick")
    assert "Quay rack" in outside_render.sources()
    job = RenderJob(rendering.TRACKS, "wav32f", only=("kick",), through="Quay rack", bars=(1, 2))
    (sound,) = rendered(job, tmp_path, session).values()
    made = Renderer(session, TAKES, job).made(tuple(ref.ident for ref in session.takes))
    notes = made.outcome.output_notes
    kick = [t.key for t in made.outcome.tracks].index("kick")
    starts = np.sort(notes.start[notes.track == kick])
    found = onsets(sound)
    starts = starts[starts < made.second_of(8.0) - 0.05]
    apart = starts[np.concatenate([[True], np.diff(starts) > 0.35])]
    off = [np.abs(found - at).min() for at in apart]
    assert np.median(off) < 0.002
    assert max(off) < 0.02
    # The program came before the notes, and nothing is left sounding.
    sent = [message for _, message in instrument.got]
    assert sent[0][0] & 0xF0 == 0xC0
    assert sent[0][1] == 4
    assert sum(m[0] & 0xF0 == 0x90 for m in sent) == len(starts)
    assert sent[-1][1] == 123
    assert np.abs(sound[-200:]).max() < 0.001


def test_a_mix_has_the_built_in_sound_and_what_comes_back(instrument, tmp_path):
    session = to_the_rack(SESSION, "kick")
    job = RenderJob(rendering.MIX, "wav32f", bars=(1, 2), through="Quay rack")
    both = rendered(job, tmp_path, session)["mix"]
    outcome = Renderer(session, TAKES, job)
    (tmp_path / "inside").mkdir()
    muted = edits.with_tracks(session, [replace(session.delivery.track("kick"), muted=True)])
    inside = rendered(RenderJob(rendering.MIX, "wav32f", bars=(1, 2)), tmp_path / "inside", muted)["mix"]
    length = min(len(both), len(inside))
    rest = both[:length] - inside[:length]
    assert np.abs(rest).max() > 0.05
    # What is left without the built-in sound is the rack alone: silent before its first note.
    made = outcome.made(tuple(ref.ident for ref in session.takes))
    notes = made.outcome.output_notes
    kick = [t.key for t in made.outcome.tracks].index("kick")
    first = notes.start[notes.track == kick].min()
    before = rest[: max(1, round((first - 0.01) * RATE))]
    assert np.abs(before).max(initial=0.0) < 1e-4


def test_a_port_or_a_sound_that_is_not_there_is_said_and_cancelling_ends_the_notes(instrument, tmp_path):
    session = to_the_rack(SESSION, "kick")
    job = RenderJob(rendering.TRACKS, "wav32f", only=("kick",), through="Nobody")
    with pytest.raises(PureSignalError, match="no such sound"):
        rendered(job, tmp_path, session)
    elsewhere = edits.with_tracks(SESSION, [replace(SESSION.delivery.track("kick"), port="Nowhere")])
    with pytest.raises(PureSignalError, match="not there"):
        rendered(replace(job, through="Quay rack"), tmp_path, elsewhere)
    wanted = replace(job, through="Quay rack")
    (part,) = rendering.parts(session, TAKES, wanted)
    with pytest.raises(StoppedError):
        Renderer(session, TAKES, wanted).render(part, tmp_path / "x.wav", lambda done: done < 0.3)
    assert list(tmp_path.iterdir()) == []
    assert instrument.got[-1][1][1] == 123


def test_silence_is_said(instrument, tmp_path):
    instrument.fade[:] = 0
    session = to_the_rack(SESSION, "kick")
    job = RenderJob(rendering.TRACKS, "wav24", only=("kick",), through="Quay rack", bars=(1, 1))
    (part,) = rendering.parts(session, TAKES, job)
    done = Renderer(session, TAKES, job).render(part, tmp_path / "x.wav")
    assert any("Nothing came back" in text for text in done.warnings)
    assert soundfile.info(tmp_path / "x.wav").frames > 0
