"""Playback through the router without a port system: every message at its frame, no hanging notes."""

from __future__ import annotations

import time

import numpy as np
import pytest

from puresignal.core.kit import note_map
from puresignal.engine import ring
from puresignal.engine.client import RouterProcess
from puresignal.engine.player import FORGET, Player, position
from puresignal.engine.process_clients import PlayerProcess, SoundProcess
from puresignal.engine.ring import Reader, Writer
from puresignal.engine.router_config import RouterConfig
from puresignal.engine.shared_counters import SharedCounters, make
from puresignal.io import note_map_file, ports
from puresignal.sim.devices import Receiver
from tests.engine.conftest import until

RATE = 48_000
GENERAL = note_map_file.shipped("general-midi")


def beats(count, step, note=38, length=0.5):
    """A score of evenly spaced notes."""
    at = np.repeat(np.arange(count) * step, 2) + np.tile([0, length * step], count)
    data = np.tile(np.array([[0, 0x99, note, 90], [0, 0x89, note, 64]], np.uint8), (count, 1))
    order = np.argsort(at, kind="stable")
    return at[order], data[order]


class Rig:
    def __init__(self):
        self.router = RouterProcess(RouterConfig((), (ports.RECEIVER,), GENERAL, GENERAL))
        self.player = PlayerProcess(self.router)
        self.sent = Reader(self.router.sent)
        self.got = []

    def look(self, seconds):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            self.got += self.sent.read()
            time.sleep(0.005)

    def ons(self):
        return [(r.at, r.data[1]) for r in self.got if r.data[0] & 0xF0 == 0x90]

    def sounding(self):
        receiver = Receiver()
        for r in self.got:
            receiver.take(r.at, r.data)
        return receiver.sounding


@pytest.fixture
def rig(monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    made = Rig()
    until(lambda: made.router.read(0.05), what="the router")
    yield made
    made.player.close()
    assert made.router.close() == 0


def test_playback_is_exact_to_the_frame_and_programs_come_first(rig):
    at, data = beats(30, 0.05)
    rig.player.use(at, data)
    rig.player.play(0.5, [(0, b"\xb9\x00\x01"), (0, b"\xc9\x07")])
    rig.look(1.9)
    assert [r.data for r in rig.got[:2]] == [b"\xb9\x00\x01", b"\xc9\x07"]
    ons = [t for t, _ in rig.ons()]
    assert len(ons) == 20
    assert np.abs(np.diff(ons) - 0.05).max() < 2.1e-5
    assert ons[0] - rig.got[0].at >= 0.01
    assert rig.sounding() == {}
    assert not rig.player.playing
    assert rig.player.position() is None


def test_looped_playback_stays_in_time_and_stop_leaves_nothing_sounding(rig):
    rig.player.use(*beats(10, 0.1, length=3.0))
    rig.player.loop((0.0, 0.4))
    rig.player.play(0.0, [])
    rig.look(1.8)
    place = rig.player.position()
    assert place is not None
    rig.player.stop()
    rig.look(0.2)
    ons = [t for t, _ in rig.ons()]
    assert len(ons) >= 10
    assert np.abs(np.diff(ons) - 0.1).max() < 4.2e-5
    assert rig.sounding() == {}
    after = len(rig.got)
    rig.look(0.3)
    assert len(rig.got) == after


def test_another_score_is_heard_on_the_next_note_and_ends_what_sounded(rig):
    rig.player.use(*beats(40, 0.1, 38, length=5.0))
    rig.player.play(0.0, [])
    until(lambda: (rig.look(0.02), len(rig.ons()) >= 4)[1], 5)
    rig.player.use(*beats(40, 0.1, 45, length=0.5))
    rig.look(0.6)
    notes = [n for _, n in rig.ons()]
    change = notes.index(45)
    assert set(notes[:change]) == {38}
    assert set(notes[change:]) == {45}
    times = [t for t, _ in rig.ons()]
    assert np.abs(np.diff(times) - 0.1).max() < 4.2e-5
    assert (10, 38) not in rig.sounding()
    rig.player.use(np.zeros(0), np.zeros((0, 4), np.uint8))
    rig.look(0.2)
    assert rig.sounding() == {}


def test_live_playing_and_playback_of_one_note_end_on_their_own(monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    router = RouterProcess(RouterConfig((ports.SCREEN_PADS,), (ports.RECEIVER,), GENERAL, GENERAL))
    player, sent = PlayerProcess(router), Reader(router.sent)
    until(lambda: router.read(0.05), what="the router")
    router.play(ports.SCREEN_PADS, b"\x90\x3c\x50")
    player.use(np.array([0.0, 0.1]), np.array([[0, 0x90, 60, 70], [0, 0x80, 60, 64]], np.uint8))
    player.play(0.0, [])
    time.sleep(1.2)
    router.play(ports.SCREEN_PADS, b"\x80\x3c\x40")
    time.sleep(0.2)
    data = [r.data for r in sent.read()]
    player.close()
    router.close()
    # The receiver's note ends once: when the last of both lets go of it.
    assert data == [b"\x90\x3c\x50", b"\x90\x3c\x46", b"\x80\x3c\x40"]


def test_the_player_alone_hands_over_each_event_once_whatever_the_ticks():
    from puresignal.engine import ring

    memory = ring.make()
    reader = Reader(memory)
    player = Player(ring.Writer(memory), SharedCounters(make()))
    player.use(*beats(50, 0.037))
    player.play(0.0, 1000, 48_000)
    frame, random = 1000, np.random.default_rng(1)
    while player.playing and frame < 200_000:
        frame += int(random.integers(20, 900))
        player.hand_over(frame, 128)
    rows = [(r.at, r.data) for r in reader.read()]
    ons = [round(at) for at, d in rows if d[0] == 0x99]
    begin = 1000 + round(0.02 * 48_000)
    assert ons == [begin + round(i * 0.037 * 48_000) for i in range(50)]


def test_without_a_sound_device_the_sound_reports_it(rig):
    sound = SoundProcess(rig.router, rig.player)
    sound.tell(map=note_map.to_json(GENERAL), output=0, kit="Boathouse", drums={}, level=0.5, muted=[])
    try:
        state = until(lambda: sound.read(), 15, "the sound")
        assert state["ready"] == len({pad.articulation for pad in GENERAL.pads})
        assert state["system"] or "sudo apt-get" in state["why"] or "no sound device" in state["why"].lower()
    finally:
        sound.close()


def test_a_backing_track_follows_the_player_sample_by_sample(tmp_path):
    from puresignal.engine import shared_counters
    from puresignal.engine.sound_process import BackingPlayer
    from puresignal.io import audio_file

    ramp = (np.arange(48_000) % 4800 / 4800).astype(np.float32)
    audio_file.write_wav(tmp_path / "ramp.wav", ramp, 48_000)
    transport, clock = (
        shared_counters.SharedCounters(shared_counters.make()),
        shared_counters.SharedCounters(shared_counters.make()),
    )
    along = BackingPlayer(transport, clock)
    along.load({"path": str(tmp_path / "ramp.wav"), "level": 0.0, "offset": 0.1}, 48_000)
    silent = np.zeros((2, 256), np.float32)
    along.add_to(silent, 1.0)
    assert not silent.any()
    transport.write(1, 10_000, 0, 48_000, 0, 0)
    heard = []
    for i in range(60):
        # The clock is read some microseconds late, now more, now less.
        clock.write(10_000 + 256 * i, 48_000, time.monotonic_ns() + (i % 3) * 4_000, 256)
        block = np.zeros((2, 256), np.float32)
        along.add_to(block, 1.0)
        heard.append(block)
    sound = np.concatenate(heard, axis=1)[0]
    begin = int(np.flatnonzero(sound)[0]) - 1
    assert begin == pytest.approx(4800, abs=24)
    assert np.abs(sound[begin : begin + 9000] - ramp[:9000]).max() < 1e-3
    along.load({"path": str(tmp_path / "nobody.wav"), "level": 0.0, "offset": 0.0}, 48_000)
    assert "no such file" in along.why


def test_recordings_slowed_down_keep_their_pitch_and_sound_together(tmp_path):
    from puresignal.engine import shared_counters
    from puresignal.engine.sound_process import Recordings
    from puresignal.io import audio_file

    t = np.arange(2 * 48_000) / 48_000
    wanted = []
    for name, hertz in (("low.wav", 220.0), ("high.wav", 550.0)):
        audio_file.write_wav(tmp_path / name, (0.3 * np.sin(2 * np.pi * hertz * t)).astype(np.float32), 48_000)
        wanted.append({"path": str(tmp_path / name), "level": 0.0, "offset": 0.0})
    transport, clock = (shared_counters.SharedCounters(shared_counters.make()) for _ in range(2))
    along = Recordings(transport, clock)
    along.load(wanted, 48_000)
    # Half as fast: a second of the score takes twice as many frames.
    transport.write(1, 10_000, 0, 96_000, 0, 0)
    parts = []
    for i in range(400):
        clock.write(10_000 + 256 * i, 48_000, time.monotonic_ns(), 256)
        block = np.zeros((2, 256), np.float32)
        along.add_to(block, 1.0)
        parts.append(block)
    sound = np.concatenate(parts, axis=1)[0][4_800:]
    spectrum = np.abs(np.fft.rfft(sound * np.hanning(len(sound))))
    hertz = np.arange(len(spectrum)) * 48_000 / len(sound)
    assert hertz[np.argmax(np.where(hertz < 400, spectrum, 0))] == pytest.approx(220, abs=1.5)
    assert hertz[np.argmax(np.where(hertz > 400, spectrum, 0))] == pytest.approx(550, abs=1.5)
    kept = along.players[1]
    along.load(wanted[1:], 48_000)
    assert along.players == (kept,)


def played(player, reader, frame, frames, block=128):
    """Hand over everything up to `frames` later; the frames at which note-ons leave, after what was taken back."""
    rows = []
    for now in range(frame, frame + frames, block):
        player.hand_over(now, block)
        for record in reader.read():
            if record.data == FORGET:
                rows = [row for row in rows if row < record.at]
            elif record.data[0] == 0x99:
                rows.append(record.at)
    return [round(at) for at in rows], frame + frames


@pytest.mark.parametrize("loop", [None, (0.0, 4.0)])
def test_another_tempo_takes_effect_where_it_is_and_every_later_note_is_on_its_frame(loop):
    from puresignal.engine import ring

    memory = ring.make()
    reader, player = Reader(memory), Player(ring.Writer(memory), SharedCounters(make()))
    # A note on every beat, at 120, and from the change on at 90.
    player.loop(loop)
    player.use(*beats(16, 0.5))
    player.play(0.0, 0, RATE)
    before, frame = played(player, reader, 0, round(1.6 * RATE))
    knots = np.arange(64.0)
    slower = None if loop is None else (0.0, 4.0 * 120 / 90)
    player.loop(slower, again=False)
    at, data = beats(16, 60 / 90)
    player.use(at, data, (knots * 0.5, knots * 60 / 90))
    changed = player._origin_frame
    after, _ = played(player, reader, frame, 9 * RATE)
    begin = round(0.02 * RATE)
    assert before == [begin + round(i * 0.5 * RATE) for i in range(len(before))]
    assert changed - frame <= round(0.025 * RATE)
    # Beats go on from where they were: what is left of this beat, then whole beats of the new length.
    beat = (changed - begin) / RATE / 0.5
    wanted = [changed + (n - beat) * RATE * 60 / 90 for n in range(int(np.ceil(beat)), int(np.ceil(beat)) + 8)]
    late = np.array([one for one in after if one > before[-1]][:8]) - np.array(wanted)
    assert np.abs(late).max() <= 2


def test_slower_is_slower_by_as_much_and_the_position_goes_on():
    from puresignal.engine import ring

    memory = ring.make()
    reader, transport = Reader(memory), SharedCounters(make())
    player = Player(ring.Writer(memory), transport)
    player.use(*beats(40, 0.1))
    player.play(0.0, 0, RATE)
    before, frame = played(player, reader, 0, RATE // 2)
    player.speed(0.5)
    changed = player._origin_frame
    at = player.seconds_at(changed)
    after, _ = played(player, reader, frame, 2 * RATE)
    assert np.abs(np.diff(before) - 0.1 * RATE).max() <= 1
    later = [one for one in after if one > changed]
    assert np.abs(np.diff(later) - 0.2 * RATE).max() <= 1
    assert later[0] == pytest.approx(changed + (np.ceil(at * 10 - 1e-6) / 10 - at) * 2 * RATE, abs=2)
    assert player.seconds_at(changed + RATE) == pytest.approx(at + 0.5)
    # The window reads the position from the same figures.
    clock = (changed + RATE, RATE, 0, 128)
    assert position(transport.read(), clock, 0) == pytest.approx(at + 0.5, abs=1e-5)


def test_what_is_played_live_sounds_in_the_next_round_while_nobody_hands_over_a_score(monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    setup = RouterConfig((ports.SCREEN_PADS,), (ports.RECEIVER,), GENERAL, GENERAL)
    router = RouterProcess(setup)
    player, sent = PlayerProcess(router), Reader(router.sent)
    try:
        until(lambda: router.read(0.05), what="the router")
        at, data = beats(2, 0.4, note=36)
        player.use(at, data)
        player.loop((0.0, 0.8))
        player.play(0.0, [], endless=True)
        until(lambda: player.playing, what="playback")
        player.echo(True)
        until(lambda: (player.position() or 0.0) > 0.15, what="the place")
        router.play(ports.SCREEN_PADS, bytes((0x99, 38, 77)))
        router.play(ports.SCREEN_PADS, bytes((0x89, 38, 0)), time.monotonic() + 0.02)
        # Three rounds, and some of the fourth.
        time.sleep(2.8)
        got = sent.read()
        snares = [r.at for r in got if r.data[:2] == b"\x99\x26" and r.data[2] == 77]
        kicks = [r.at for r in got if r.data[:2] == b"\x99\x24"]
        # Once by hand, and once in each of the rounds after it, as far as it is apart from the kicks of its round.
        assert 4 <= len(snares) <= 5
        assert np.abs(np.diff(snares) - 0.8).max() < 0.002
        assert np.abs(np.diff(kicks) - 0.4).max() < 0.002
        # A score that has it takes its place: it is not doubled.
        player.use(at, data, known=time.monotonic())
        time.sleep(0.1)
        sent.read()
        time.sleep(1.0)
        assert [r for r in sent.read() if r.data[:2] == b"\x99\x26"] == []
    finally:
        player.close()
        router.close()


def test_a_recording_that_follows_the_beats_is_stretched_where_they_are(tmp_path):
    from puresignal.engine import shared_counters
    from puresignal.engine.sound_process import BackingPlayer
    from puresignal.io import audio_file

    # A click each half second of the file; the second second of it takes twice as long.
    sound = np.zeros(4 * 48_000, np.float32)
    for i in range(8):
        sound[24_000 * i : 24_000 * i + 200] = np.hanning(200) * 0.8
    audio_file.write_wav(tmp_path / "clicks.wav", sound, 48_000)
    transport, clock = (shared_counters.SharedCounters(shared_counters.make()) for _ in range(2))
    along = BackingPlayer(transport, clock)
    bent = [[0.0, 1.0, 3.0, 5.0], [0.0, 1.0, 2.0, 4.0]]
    along.load({"path": str(tmp_path / "clicks.wav"), "level": 0.0, "offset": 0.0, "bent": bent}, 48_000)
    transport.write(1, 10_000, 0, 48_000, 0, 0)
    parts = []
    for i in range(900):
        clock.write(10_000 + 256 * i, 48_000, time.monotonic_ns(), 256)
        block = np.zeros((2, 256), np.float32)
        along.add_to(block, 1.0)
        parts.append(block)
    loud = np.abs(np.concatenate(parts, axis=1)[0])
    for own, shown in ((0.5, 0.5), (1.0, 1.0), (1.5, 2.0), (2.0, 3.0), (2.5, 3.5), (3.0, 4.0)):
        near = loud[round((shown - 0.1) * 48_000) : round((shown + 0.1) * 48_000)]
        assert near.max() > 0.4, own
        assert (np.argmax(near) / 48_000 - 0.1) == pytest.approx(0.0, abs=0.012), own


def test_what_holds_at_the_place_where_it_starts_is_sent_first_and_again_where_a_loop_begins():
    from puresignal.engine import ring

    memory = ring.make()
    reader = Reader(memory)
    player = Player(ring.Writer(memory), SharedCounters(make()))
    at = np.array([0.0, 0.0, 0.1, 0.1, 1.0, 1.5, 1.6])
    data = np.array(
        [[0, 0xB0, 0, 1], [0, 0xC0, 7, 0], [0, 0xC0, 9, 0], [0, 0xB0, 123, 0], [0, 0x90, 60, 90], [0, 0xC0, 20, 0],
         [0, 0x80, 60, 64]], np.uint8,
    )  # fmt: skip
    player.use(at, data)
    player.loop((0.5, 2.0))
    player.play(0.5, 0, 1000)
    player.hand_over(0, 20)
    begun = [r.data for r in reader.read() if r.data[0] < 0xF0]
    # The last bank and program, in that order; all notes off is no state.
    assert begun == [b"\xb0\x00\x01", b"\xc0\x09"]
    for frame in range(20, 1700, 20):
        player.hand_over(frame, 20)
    later = [(round(r.at), r.data) for r in reader.read() if r.data[0] < 0xF0]
    # The first round changes to program 20; the second begins with 9 again. The bank is the same, and is not sent.
    assert later == [(520, b"\x90\x3c\x5a"), (1020, b"\xc0\x14"), (1120, b"\x80\x3c\x40"), (1520, b"\xc0\x09")]


@pytest.mark.parametrize(("before", "after"), [(48_000, 44_100), (44_100, 96_000)])
def test_notes_keep_their_seconds_where_the_clock_comes_back_at_another_rate(before, after):
    memory = ring.make()
    reader, player = Reader(memory), Player(Writer(memory), SharedCounters(make()))
    at, data = beats(60, 0.05)
    player.use(at, data)
    zero = 1000 * before
    player.play(0.0, zero, before)
    begins = player._origin_frame / before
    now, rate, found, told = zero, before, [], 0
    for _ in range(900):
        if now / rate > 1001.5 and rate == before:
            now, rate = round(now / before * after), after
            player.change_rate(after)
        player.hand_over(now, 128)
        for r in reader.read():
            if r.data == FORGET:
                told += 1
                found = [one for one in found if one[0] < r.at]
            elif r.data[0] == 0x99:
                found.append((r.at, rate, now))
        now += 256
    assert told >= 1
    seconds = sorted(frame / per for frame, per, _ in found)
    late = [one for one in seconds if one > 1001.6]
    steps = (np.array(late) - begins) / 0.05
    assert np.abs(steps - np.rint(steps)).max() < 0.01
    assert np.rint(np.diff(steps)).tolist() == [1.0] * (len(late) - 1)
    assert len(late) > 20
