"""What arrived and was not yet written when everything was killed is in the journal after the next start."""

from __future__ import annotations

import fcntl
import json
import os
import signal
import socket
import subprocess
import sys

import pytest

from puresignal.engine import kept_rings, ring
from puresignal.engine.client import RouterProcess
from puresignal.engine.host import Host
from puresignal.engine.message_flow import MessageFlow
from puresignal.engine.ring import Reader, Writer
from puresignal.engine.router_config import RouterConfig, to_bytes
from puresignal.engine.shared_counters import SharedCounters
from puresignal.io import journal, ports
from tests.engine.conftest import until

PLAYER = """
import sys, time
from pathlib import Path
from puresignal.engine import kept_rings, ring
from puresignal.io import journal, ports
where, written = Path(sys.argv[1]), int(sys.argv[2])
rings = kept_rings.make(True)
rings.name_journal(where, ("Pads on screen",))
arrived, moves, own = ring.Writer(rings.arrived), ring.Writer(rings.moves), ring.Writer(rings.own)
moves.put(1.0, 0, b'{"move":"play","seconds":0.0,"speed":1.0}')
for number in range(40):
    arrived.put(2.0 + number / 100, 0, bytes((0x99, number, 100)))
for number in range(40, 45):
    # The last two are of an input that nobody listens to.
    port = ports.FED.index(ports.SCREEN_PADS if number < 43 else ports.TOUCH)
    own.put(2.0 + number / 100, port, bytes((0x99, number, 100)))
# What the recorder did before it was killed too, but for noting how far it was.
journal.Writer(where, ("Pads on screen",)).add(ring.Reader(rings.arrived, keeps_place=True).read(written))
print("ready", flush=True)
time.sleep(60)
"""


@pytest.fixture
def folder(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path / "run"))
    where = tmp_path / "journal"
    where.mkdir()
    return where


def play(folder, written=0):
    command = [sys.executable, "-c", PLAYER, str(folder), str(written)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert process.stdout.readline() == "ready\n"
    return process


def kill(process):
    os.kill(process.pid, signal.SIGKILL)
    process.wait()
    process.stdout.close()


def notes(folder):
    return [data[1] for _, _, data in journal.read(sorted(folder.glob("*.journal")))[1]]


@pytest.mark.parametrize("written", [0, 25, 40])
def test_what_was_not_written_when_everything_was_killed_is_written_once_by_the_next_start(folder, tmp_path, written):
    kill(play(folder, written))
    assert kept_rings.rescue() == 43 - written
    assert notes(folder) == list(range(43))
    [(at, move)] = journal.read_moves(sorted(folder.glob("*.journal")))
    assert (at, move["move"]) == (1.0, "play")
    assert kept_rings.rescue() == 0
    assert notes(folder) == list(range(43))
    assert list((tmp_path / "run" / "pure-signal").iterdir()) == []


def test_rings_in_use_stay(folder, tmp_path):
    process = play(folder)
    assert kept_rings.rescue() == 0
    assert notes(folder) == []
    kill(process)
    assert kept_rings.rescue() == 43


def test_a_disk_that_refuses_leaves_them_for_the_start_after(folder, monkeypatch):
    kill(play(folder))
    with monkeypatch.context() as full:
        full.setattr(journal.Writer, "_next_file", lambda self: (_ for _ in ()).throw(OSError(28, "no space")))
        assert kept_rings.rescue() == 0
    assert kept_rings.rescue() == 43
    assert notes(folder) == list(range(43))


def test_a_journal_that_was_thrown_away_does_not_come_back(folder, tmp_path):
    kill(play(folder))
    folder.rmdir()
    assert kept_rings.rescue() == 0
    assert not folder.exists()
    assert list((tmp_path / "run" / "pure-signal").iterdir()) == []


@pytest.mark.parametrize("damage", [b"", b"[]", b'{"journal": 3}', b"\xff\xfe", json.dumps({"inputs": []}).encode()])
def test_a_damaged_note_about_them_does_no_harm(folder, tmp_path, damage):
    kill(play(folder))
    [kept] = (tmp_path / "run" / "pure-signal").iterdir()
    (kept / "about.json").write_bytes(damage)
    assert kept_rings.rescue() == 0


@pytest.mark.parametrize("whole", [0, 1, 2])
def test_rings_of_a_program_that_was_killed_while_it_made_them_are_cleared_away(folder, tmp_path, whole):
    begun = tmp_path / "run" / "pure-signal" / "arrived-begun"
    begun.mkdir(parents=True)
    for name in ("ring", "moves", "own")[:whole]:
        (begun / name).write_bytes(bytes(ring.SIZE))
    (begun / ("ring", "moves", "own")[whole]).write_bytes(b"")
    with (begun / ("ring", "moves", "own")[whole]).open("r+b") as held:
        # Its maker is still at work.
        fcntl.flock(held, fcntl.LOCK_EX)
        assert kept_rings.rescue() == 0
        assert begun.exists()
    assert kept_rings.rescue() == 0
    assert not begun.exists()


def test_without_a_folder_in_memory_they_are_in_the_processes_alone(monkeypatch):
    monkeypatch.delenv("XDG_RUNTIME_DIR", raising=False)
    rings = kept_rings.make(True)
    assert rings.folder is None
    ring.Writer(rings.arrived).put(1.0, 0, b"\x99\x24\x40")
    assert len(ring.Reader(rings.arrived, keeps_place=True).read()) == 1
    rings.close(all_written=True)


def test_a_full_memory_leaves_nothing_behind_and_the_processes_keep_them(folder, tmp_path, monkeypatch):
    def full(*_):
        raise OSError(28, "no space")

    monkeypatch.setattr(os, "posix_fallocate", full)
    rings = kept_rings.make(True)
    assert rings.folder is None
    assert list((tmp_path / "run" / "pure-signal").iterdir()) == []
    rings.close(all_written=True)


def test_what_arrived_before_the_recorder_was_up_is_kept_too(folder, tmp_path):
    folder.rmdir()
    rings = kept_rings.make(True)
    rings.name_journal(folder, ("Pads on screen",))
    ring.Writer(rings.arrived).put(1.0, 0, b"\x99\x24\x40")
    rings.close(all_written=False)
    del rings
    kept_rings.rescue()
    assert notes(folder) == [0x24]


def test_what_was_hit_while_the_router_looked_at_its_ports_is_kept_when_the_window_is_killed_then(monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    setup = RouterConfig((ports.SCREEN_PADS,), (ports.SOUND,))
    window = RouterProcess(setup)
    window.process.kill()
    window.process.wait(10)
    counters = SharedCounters(window.transport_found), SharedCounters(window.transport_ready)
    flow = MessageFlow(
        Writer(window.ring), Writer(window.sent), [Reader(one, keeps_place=True) for one in window._feeds],
        Reader(window.playback), SharedCounters(window.clock),
    )  # fmt: skip
    mine, theirs = socket.socketpair()
    host = Host(theirs, window._memory, flow, window.knock, counters)
    looks = iter(range(100))

    def look():
        Host._look(host)
        if next(looks) == 1:
            for number in range(3):
                window.play(ports.SCREEN_PADS, bytes((0x99, 60 + number, 100)))
            mine.shutdown(socket.SHUT_WR)
            until(lambda: host._ending)

    monkeypatch.setattr(host, "_look", look)
    mine.sendall(to_bytes(setup))
    host.run()
    assert [record.data[1] for record in window.arrived.read()] == [60, 61, 62]
    mine.close()
    theirs.close()
    window.close()
