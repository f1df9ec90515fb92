"""`pure-signal record` and `play`, on a real JACK server: a player who plays to the click, and the file of it."""

from __future__ import annotations

import signal
import subprocess
import sys
import time

import numpy as np
import pytest

from puresignal.core.export import whole_session
from puresignal.core.export.session_result import SessionResult
from puresignal.io import midi_reader, session_file
from tests.engine.conftest import Peer, peers, prompt, server, until  # noqa: F401 - fixtures

BEAT = 12_000
"""Frames of a beat at 240 BPM."""
AFTER = 3 * BEAT // 4


class Ear(Peer):
    """Hears the click at its input, and has the hand hit three quarters of a beat after each."""

    def __init__(self, name, hand, binding=None):
        self.clicks, self.hand = [], hand
        super().__init__(name, binding)

    def _process(self, frames):
        if self.closed:
            return
        now = self.client.last_frame_time
        for offset, data in self.inp.incoming_midi_events():
            message = bytes(data)
            if message[0] & 0xF0 == 0x90 and message[2]:
                self.clicks.append((now + offset, message[2]))
                n = len(self.clicks)
                self.hand.due.append((now + offset + AFTER, bytes((0x99, 36 + n % 2 * 2, 40 + n % 80))))
                self.hand.due.append((now + offset + AFTER + 480, bytes((0x89, 36 + n % 2 * 2, 0))))


class Hand(Peer):
    """Plays what is due, to the frame. A client of its own: one that hears and plays would be a circle of the graph,
    which costs a block."""

    def __init__(self, name, binding=None):
        self.due = []
        super().__init__(name, binding)

    def _process(self, frames):
        self.out.clear_buffer()
        if self.closed:
            return
        now = self.client.last_frame_time
        while self.due and self.due[0][0] < now + frames:
            at, message = self.due.pop(0)
            self.out.write_midi_event(max(0, at - now), message)


@pytest.fixture
def player(server):  # noqa: F811
    """The ear of a player at "ear:in", whose hand plays at "hand:out"."""
    hand = Hand("hand")
    ear = Ear("ear", hand)
    yield ear
    ear.close()
    hand.close()


def start(*arguments):
    command = [sys.executable, "-m", "puresignal.cli", *arguments]
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def ended(process):
    """(exit code, what it said, what it told as an error)"""
    said, told = process.communicate(timeout=40)
    return process.returncode, said, told


def onsets(path):
    """(beats from bar 1, velocities) of what a session's first take gives."""
    opened = session_file.read(path)
    session, takes = opened.session, {take.ident: take for take in opened.takes}
    made = SessionResult().together(session, session.takes, takes)
    notes = made.outcome.output_notes
    beats = made.timeline.seconds_to_beats(notes.start - made.shift)
    return beats, notes.velocity.astype(int).tolist(), session


def test_what_is_played_to_the_click_stands_on_its_beats_to_the_frame(player, tmp_path):
    target = tmp_path / "ferry.puresignal"
    process = start(
        "record", "--in", "hand:out", "--out", str(target), "--tempo", "240", "--bars", "2", "--click", "ear:in",
        "--faults", "keep",
    )  # fmt: skip
    code, said, told = ended(process)
    assert (code, "input: hand:out" in told) == (0, True), told
    assert "in 9 = out 9" in said, said
    # The first clicks of bars are louder; a bar of count-in, and two bars.
    loud = [velocity for _, velocity in player.clicks[:12]]
    assert [i for i, velocity in enumerate(loud) if velocity == 127] == [0, 4, 8]
    gaps = np.diff([frame for frame, _ in player.clicks[:12]])
    assert np.abs(gaps - BEAT).max() <= 1
    beats, velocities, session = onsets(target)
    # The hit after the last beat of the count-in is a quarter of a beat early, and belongs to it.
    assert velocities[:9] == [40 + n for n in range(4, 13)]
    assert beats[:9] == pytest.approx([n - 0.25 for n in range(9)], abs=1.5 / BEAT)
    assert session.takes[0].input == session.inputs[0].ident
    assert session.takes[0].follows_beats


def test_rounds_of_a_loop_are_passes_until_it_is_told_to_stop(player, tmp_path):
    target = tmp_path / "loop.puresignal"
    process = start(
        "record", "--in", "hand", "--out", str(target), "--tempo", "240", "--bars", "1", "--loop", "--count-in", "0",
        "--click", "ear:in", "--faults", "keep",
    )  # fmt: skip
    until(lambda: len(player.clicks) >= 11, 30, "the third round")
    process.send_signal(signal.SIGINT)
    code, said, told = ended(process)
    assert code == 0, told
    assert "3 passes" in said
    beats, _, session = onsets(target)
    assert len(session.takes[0].passes) == 3
    assert (beats % 1) == pytest.approx(np.full(len(beats), 0.75), abs=1.5 / BEAT)
    assert beats.max() < 4


def test_a_midi_file_is_written_by_its_ending_and_played_to_a_port_again(player, tmp_path):
    target = tmp_path / "ferry.mid"
    process = start(
        "record", "--in", "hand:out", "--out", str(target), "--tempo", "240", "--bars", "1", "--count-in", "0",
        "--click", "ear:in", "--raw",
    )  # fmt: skip
    code, _, told = ended(process)
    assert code == 0, told
    song = midi_reader.parse(target.read_bytes(), "f.mid")
    written = [
        (int(a), int(b))
        for track in song.tracks
        for s, a, b in zip(track.messages.status, track.messages.data1, track.messages.data2, strict=True)
        if s == 0x99 and b
    ]
    assert written[:3] == [(38, 41), (36, 42), (38, 43)]
    player.clicks.clear()
    player.hand.due.clear()
    process = start("play", str(target), "--out", "ear:in")
    code, _, told = ended(process)
    assert code == 0, told
    assert [velocity for _, velocity in player.clicks] == [velocity for _, velocity in written]


def test_a_server_that_comes_back_at_another_rate_leaves_the_recording_whole(server, tmp_path):  # noqa: F811
    target = tmp_path / "two rates.puresignal"
    hand = Hand("hand")
    process = start("record", "--in", "hand:out", "--out", str(target), "--count-in", "0", "--click", "none")
    sent = []

    def play(own, rate):
        until(lambda: own.client.get_all_connections(own.out), 15, what="the connection")
        time.sleep(0.5)
        first = own.client.last_frame_time + rate // 4
        for k in range(8):
            own.due.append((first + k * rate // 10, bytes((0x99, 36 + k, 90))))
            own.due.append((first + k * rate // 10 + rate // 20, bytes((0x89, 36 + k, 0))))
        until(lambda: not own.due, 5, what="the notes")
        sent.append(time.monotonic())
        time.sleep(0.3)

    play(hand, 48_000)
    server.process.kill()
    server.process.wait()
    time.sleep(0.5)
    server.start(rate=44_100)
    hand = Hand("hand")
    play(hand, 44_100)
    process.send_signal(signal.SIGINT)
    code, _, told = ended(process)
    hand.close()
    assert code == 0, told
    opened = session_file.parse(target.read_bytes(), "two.puresignal")
    take = opened.takes[0]
    events = take.events
    on = (events.status == 0x99) & (events.data2 > 0)
    assert events.data1[on].tolist() == [*range(36, 44)] * 2
    at = events.arrived[on]
    # Tenths of a second at either rate, and as far apart as they were played.
    assert np.abs(np.diff(at[:8]) - 0.1).max() < 0.012
    assert np.abs(np.diff(at[8:]) - 0.1).max() < 0.012
    assert at[15] - at[7] == pytest.approx(sent[1] - sent[0], abs=0.5)


def test_nothing_played_writes_nothing_and_says_so(player, tmp_path):
    target = tmp_path / "silence.mid"
    process = start("record", "--in", "hand:out", "--out", str(target), "--tempo", "400", "--bars", "1",
                    "--count-in", "0", "--click", "none")  # fmt: skip
    code, _, told = ended(process)
    assert code == 1
    assert "Nothing was played" in told
    assert not target.exists()


def test_an_absent_port_is_waited_for_and_a_stop_before_it_comes_is_no_error(server, tmp_path):  # noqa: F811
    process = start("record", "--in", "nobody:out", "--out", str(tmp_path / "a.mid"))
    line = process.stderr.readline()
    assert "waiting for a port called 'nobody:out' (input)" in line
    time.sleep(0.1)
    process.send_signal(signal.SIGTERM)
    code, _, told = ended(process)
    assert code == 0, told
    assert not (tmp_path / "a.mid").exists()


@pytest.mark.parametrize(
    ("more", "what"),
    [
        (["--out", "a.txt"], "Neither a session nor a MIDI file"),
        (["--out", "there.mid"], "exists already"),
        (["--out", "a.mid", "--meter", "4/5"], "no meter"),
        (["--out", "a.mid", "--tempo", "fast"], "no tempo"),
        (["--out", "a.mid", "--count-in", "9"], "no number of bars"),
    ],
)
def test_wrong_wishes_are_refused_before_anything_starts(tmp_path, more, what):
    (tmp_path / "there.mid").write_bytes(b"MThd")
    process = subprocess.run(
        [sys.executable, "-m", "puresignal.cli", "record", "--in", "x", *more],
        cwd=tmp_path, capture_output=True, text=True, timeout=30,
    )  # fmt: skip
    assert process.returncode in (1, 2)
    assert what in process.stderr


def test_a_result_is_the_same_in_the_window(player, tmp_path):
    target = tmp_path / "same.puresignal"
    process = start("record", "--in", "hand:out", "--out", str(target), "--tempo", "240", "--bars", "1",
                    "--click", "ear:in")  # fmt: skip
    code, _, told = ended(process)
    assert code == 0, told
    opened = session_file.read(target)
    takes = {take.ident: take for take in opened.takes}
    made = whole_session.result(opened.session, takes)
    from puresignal.ui.state.workbench import Workbench

    bench = Workbench()
    bench.show_session(opened.session, opened.takes, target)
    assert bench.written.outcome.output_notes.note.tolist() == made.outcome.output_notes.note.tolist()
    bench.let_go()
