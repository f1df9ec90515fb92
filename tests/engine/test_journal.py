"""Ring, recorder and journal: whatever arrives is kept, whichever process dies."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.errors import BadFileError, FileAccessError
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.engine import ring
from puresignal.engine.client import RouterProcess
from puresignal.engine.router_config import RouterConfig
from puresignal.io import journal
from tests.engine.conftest import until

records = st.lists(
    st.tuples(st.integers(0, 10**6).map(lambda i: i / 50_000), st.integers(0, 7), st.binary(min_size=1, max_size=90)),
    max_size=30,
)


@settings(deadline=None)
@given(st.lists(records, max_size=6))
def test_a_reader_gets_every_message_once_and_in_order(batches):
    memory = ring.make()
    writer, reader = ring.Writer(memory), ring.Reader(memory)
    for batch in batches:
        for at, port, data in batch:
            writer.put(at, port, data)
        assert [tuple(r) for r in reader.read()] == batch
    assert reader.missed == 0
    os.close(memory)


def test_a_reader_that_falls_behind_learns_how_much_it_missed_and_goes_on():
    memory = ring.make()
    writer, reader = ring.Writer(memory), ring.Reader(memory)
    for i in range(ring.SLOTS + 5000):
        writer.put(float(i), 0, b"\x99\x26\x5a")
    found = reader.read()
    assert len(found) + reader.missed == ring.SLOTS + 5000
    assert [r.at for r in found] == [float(i) for i in range(reader.missed, ring.SLOTS + 5000)]
    os.close(memory)


def test_a_writer_goes_on_where_the_last_one_stopped():
    memory = ring.make()
    reader = ring.Reader(memory)
    ring.Writer(memory).put(1.0, 0, b"\x99\x26\x5a")
    ring.Writer(memory).put(2.0, 0, b"\x89\x26\x00")
    assert [r.at for r in reader.read()] == [1.0, 2.0]
    os.close(memory)


@settings(deadline=None, max_examples=40)
@given(records)
def test_the_journal_gives_back_what_was_written(tmp_path_factory, rows):
    folder = tmp_path_factory.mktemp("journal")
    writer = journal.Writer(folder, ("kit:out", "box"))
    writer.add(rows)
    writer.close()
    inputs, found = journal.read(sorted(folder.glob("*.journal")))
    assert found == rows
    assert inputs == (("kit:out", "box") if rows else ())


def test_a_line_cut_off_by_a_crash_is_skipped(tmp_path):
    writer = journal.Writer(tmp_path, ("kit",))
    writer.add([(1.0, 0, b"\x99\x26\x5a"), (2.0, 0, b"\x99\x24\x5a")])
    writer.close()
    [path] = tmp_path.glob("*.journal")
    path.write_bytes(path.read_bytes()[:-3])
    assert journal.read([path])[1] == [(1.0, 0, b"\x99\x26\x5a")]


def test_other_files_are_refused_as_journals_and_an_empty_recording_is_reported(tmp_path):
    (tmp_path / "x.journal").write_text("hello")
    with pytest.raises(BadFileError, match=r"x\.journal"):
        journal.read([tmp_path / "x.journal"])
    with pytest.raises(FileAccessError, match="Nothing has arrived"):
        journal.to_take([], ("kit",), "t", "t", TempoMap())


def test_old_journals_go_only_when_enough_is_kept(tmp_path, monkeypatch):
    monkeypatch.setattr(journal, "LINES", 10)
    monkeypatch.setattr(journal, "KEPT_MESSAGES", 30)
    writer = journal.Writer(tmp_path, ("kit",))
    for i in range(12):
        writer.add([(float(i), 0, b"\x99\x26\x5a")] * 10)
    assert len(list(tmp_path.glob("*.journal"))) == 12, "nothing of the last half hour goes"
    for path in tmp_path.glob("*.journal"):
        os.utime(path, (0, 0))
    writer.add([(99.0, 0, b"\x99\x26\x5a")] * 10)
    writer.close()
    kept = journal.read(sorted(tmp_path.glob("*.journal")))[1]
    assert len(kept) >= 30
    assert len(list(tmp_path.glob("*.journal"))) == 4


def test_a_disk_that_fails_for_a_while_loses_nothing(tmp_path, monkeypatch):
    writer = journal.Writer(tmp_path, ("kit",))
    writer.add([(1.0, 0, b"\x99\x26\x5a")])
    real = os.write

    def refuse(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "write", refuse)
    writer.add([(2.0, 0, b"\x99\x24\x5a")])
    assert writer.refused is not None
    monkeypatch.setattr(os, "write", real)
    writer.add([(3.0, 0, b"\x99\x26\x5a")])
    writer.close()
    assert [at for at, _, _ in journal.read(tmp_path.glob("*.journal"))[1]] == [1.0, 2.0, 3.0]


def test_a_disk_that_takes_half_a_line_gets_the_other_half(tmp_path, monkeypatch):
    writer = journal.Writer(tmp_path, ("kit",))
    writer.add([(1.0, 0, b"\x99\x26\x5a")])
    real, calls = os.write, []

    def part(file, data):
        calls.append(data)
        if len(calls) == 1:
            return real(file, data[:7])
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "write", part)
    writer.add([(2.0, 0, b"\x99\x24\x5a")])
    assert writer.refused.errno == 28
    monkeypatch.setattr(os, "write", real)
    writer.add([])
    writer.close()
    assert [at for at, _, _ in journal.read(tmp_path.glob("*.journal"))[1]] == [1.0, 2.0]


def test_a_file_whose_first_line_the_disk_refuses_is_no_file(tmp_path, monkeypatch):
    writer = journal.Writer(tmp_path, ("kit",))
    real = os.write
    monkeypatch.setattr(os, "write", lambda file, data: real(file, data[:3]))
    writer.add([(1.0, 0, b"\x99\x26\x5a")])
    assert list(tmp_path.glob("*.journal")) == []
    monkeypatch.setattr(os, "write", real)
    writer.add([])
    writer.close()
    assert [at for at, _, _ in journal.read(tmp_path.glob("*.journal"))[1]] == [1.0]


def test_a_take_of_messages_starts_with_the_first_and_keeps_all(tmp_path):
    rows = [(5.0, 0, b"\x99\x26\x5a"), (5.1, 1, b"\xf0\x7d\x01\xf7"), (5.2, 0, b"\x89\x26\x40"), (5.2, 0, b"\xc9\x05")]
    take = journal.to_take(rows, ("kit", "box"), "t", "t", TempoMap())
    assert take.events.arrived.tolist() == [0.0, 0.1, 0.2, 0.2]
    assert take.events.status.tolist() == [0x99, 0xF0, 0x89, 0xC9]
    assert take.payloads == (b"\x7d\x01\xf7",)
    assert [p.name for p in take.ports] == ["kit", "box"]


# On a real server


def kept(folder):
    return (
        [m for _, _, m in journal.read(sorted(folder.glob("*.journal")))[1]] if list(folder.glob("*.journal")) else []
    )


def children(pid: int, word: str) -> list[int]:
    done = subprocess.run(["pgrep", "-P", str(pid), "-f", word], capture_output=True, text=True, check=False)
    return [int(p) for p in done.stdout.split()]


def test_everything_that_arrives_is_on_disk_within_50_ms_and_survives_any_kill(peers, tmp_path, clock):
    kit = peers("kit")
    router = RouterProcess(RouterConfig(("kit:out",), ()), tmp_path)
    try:
        until(lambda: kit.client.get_all_connections(kit.out), what="the connection")
        # The recorder may still be starting: what arrives meanwhile waits for it.
        kit.play(b"\x99\x2a\x5a")
        until(lambda: kept(tmp_path) == [b"\x99\x2a\x5a"], 5, what="the first hit")
        kit.play(b"\x99\x26\x5a")
        until(lambda: len(kit.sent) == 2, what="the sending")
        began = clock.now()
        until(lambda: len(kept(tmp_path)) == 2, 2, what="the journal")
        assert clock.now() - began < 0.25
        [recorder] = children(os.getpid(), "engine.recorder")
        os.kill(recorder, signal.SIGKILL)
        kit.play(b"\x99\x24\x5a")
        until(lambda: len(kit.sent) == 3, what="the third hit")

        def came():
            router.watch_recorder()
            return len(kept(tmp_path)) > 2

        until(came, 3, what="what came while nobody recorded")
        assert kept(tmp_path) == [b"\x99\x2a\x5a", b"\x99\x26\x5a", b"\x99\x24\x5a"]
    finally:
        router.close()
    assert children(os.getpid(), "engine.recorder") == []


ROWS = [
    (1.00002, 0, b"\x99\x26\x5a"),
    (1.5, 0, b"\x89\x26\x00"),
    (1.5, 1, b"\xf0\x7d\x01\xf7"),
    (2.0, 0, b"\x99\x26\x5a"),
]


@pytest.mark.parametrize("written", range(5))
def test_a_recorder_stopped_before_it_noted_its_place_writes_nothing_twice(tmp_path, written):
    before = journal.Writer(tmp_path, ("kit", "pads"))
    before.add(ROWS[:written])
    before.close()
    tail = journal.last_rows(tmp_path)
    after = journal.Writer(tmp_path, ("kit", "pads"))
    after.add(ROWS[journal.already_written(ROWS, tail) :])
    after.close()
    assert journal.read(sorted(tmp_path.glob("*.journal")))[1] == ROWS


def test_old_sittings_are_forgotten_and_recent_ones_are_not(tmp_path):
    for name in ("old", "recent", "own"):
        writer = journal.Writer(tmp_path / name, ("kit",))
        writer.add(ROWS[:1])
        writer.close()
    long_ago = time.time() - journal.SITTING_KEPT_SECONDS - 60
    for name in ("old", "own"):
        os.utime(tmp_path / name / "00000001.journal", (long_ago, long_ago))
    journal.forget_old(tmp_path, tmp_path / "own")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["own", "recent"]


def test_sittings_are_read_newest_first_and_each_input_keeps_its_name(tmp_path):
    for number, inputs in ((0, ("kit",)), (1, ("pads", "kit"))):
        writer = journal.Writer(tmp_path / "sitting", inputs)
        writer.add([(float(number), len(inputs) - 1, b"\x99\x26\x5a")])
        writer.close()
    (tmp_path / "broken").mkdir()
    (tmp_path / "broken" / "00000001.journal").write_text("something else")
    [one] = journal.sittings(tmp_path)
    assert one.inputs == ("kit", "pads")
    assert [port for _, port, _ in one.rows] == [0, 0]


def test_a_reader_in_another_process_sees_every_message_once_while_it_is_written():
    memory = ring.make()
    script = (
        "import sys; from puresignal.engine.ring import Writer\n"
        "w = Writer(int(sys.argv[1]))\n"
        "for i in range(60_000): w.put(i / 1000, i % 3, bytes((0x90, i % 128, i // 128 % 128)))"
    )
    reader = ring.Reader(memory)
    writer = subprocess.Popen([sys.executable, "-c", script, str(memory)], pass_fds=(memory,))
    got = []
    while writer.poll() is None:
        got += reader.read()
    got += reader.read()
    os.close(memory)
    assert reader.missed == 0
    assert [r.data for r in got] == [bytes((0x90, i % 128, i // 128 % 128)) for i in range(60_000)]
