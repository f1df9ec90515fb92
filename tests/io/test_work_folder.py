from __future__ import annotations

import errno
import os
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import pytest

from puresignal.core.errors import FileAccessError
from puresignal.core.session import session as edits
from puresignal.demo import demo_session as demo
from puresignal.io import journal, preferences, session_file, work_folder, xdg_folders
from puresignal.io.work_folder import Lock, WorkFolder


@pytest.fixture
def work():
    session, takes = demo.build()
    return session, {t.ident: t for t in takes}


def test_unsaved_work_is_offered_and_comes_back_whole(work):
    session, takes = work
    folder = WorkFolder()
    folder.store(edits.with_name(session, "Cellar"), takes, Path("/music/a.puresignal"), True)
    assert work_folder.leftovers() == (), "somebody still holds it"
    folder.let_go()
    [left] = work_folder.leftovers()
    assert (left.name, left.file) == ("Cellar", Path("/music/a.puresignal"))
    opened = work_folder.recover(left)
    assert opened.session == edits.with_name(session, "Cellar")
    assert (opened.takes[0].events.arrived == takes["take1"].events.arrived).all()
    work_folder.discard(left)
    assert work_folder.leftovers() == ()


def test_saved_work_and_damaged_folders_are_removed_or_reported(work):
    session, takes = work
    saved = WorkFolder()
    saved.store(session, takes, None, False)
    saved.let_go()
    assert work_folder.leftovers() == ()
    assert not saved.folder.exists()
    broken = WorkFolder()
    broken.store(session, takes, None, True)
    (broken.folder / "takes" / "take1.mid").unlink()
    broken.let_go()
    [left] = work_folder.leftovers()
    [problem] = work_folder.recover(left).problems
    assert "take1.mid" in problem


def test_nothing_unreadable_is_deleted_it_is_offered_and_set_aside(work):
    session, takes = work
    # Killed in its first store: the take is written, the state is not.
    first = WorkFolder()
    first.store(session, takes, None, True)
    for name in ("state.json", "session.json"):
        (first.folder / name).unlink()
    first.let_go()
    # A state that was damaged.
    second = WorkFolder()
    second.store(session, takes, None, True)
    (second.folder / "state.json").write_bytes(b"\0\0{")
    second.let_go()
    # Killed before anything was written: nothing to offer.
    WorkFolder().let_go()
    found = {left.folder: left for left in work_folder.leftovers()}
    assert set(found) == {first.folder, second.folder}
    for left in found.values():
        opened = work_folder.recover(left)
        assert [(take.events.arrived == takes[take.ident].events.arrived).all() for take in opened.takes] == [True]
        work_folder.discard(left)
    assert work_folder.leftovers() == ()
    kept = sorted((xdg_folders.state() / "aside").glob("*/takes/take1.mid"))
    assert len(kept) == 2


def test_a_run_killed_while_it_recovers_leaves_one_copy_not_two(work):
    session, takes = work
    first, second = WorkFolder(), WorkFolder()
    first.store(edits.with_name(session, "old"), takes, None, True)
    # Its store has begun: only its name is there yet.
    (second.folder / "takes").mkdir()
    second.let_go()
    first.let_go()
    assert [left.name for left in work_folder.leftovers()] == ["old"]
    # Killed in the middle of its first store: less than the old one has.
    half = WorkFolder()
    half.store(edits.with_name(session, "half"), takes, None, True, first.folder.name)
    (half.folder / "session.json").unlink()
    half.let_go()
    assert [left.name for left in work_folder.leftovers()] == ["old"]
    assert not half.folder.exists()
    third = WorkFolder()
    third.store(edits.with_name(session, "new"), takes, None, True, first.folder.name)
    third.let_go()
    assert [left.name for left in work_folder.leftovers()] == ["new"]
    assert not first.folder.exists()


def test_a_run_killed_in_its_first_store_gives_the_saved_session_and_what_was_new(work, tmp_path):
    session, takes = work
    saved = tmp_path / "evening.puresignal"
    session_file.write(saved, session, takes)
    folder = WorkFolder()
    later = {**takes, "take9": replace(takes["take1"], ident="take9", name="new")}
    folder.store(session, later, saved, True)
    (folder.folder / "session.json").unlink()
    folder.let_go()
    [left] = work_folder.leftovers()
    opened = work_folder.recover(left)
    assert opened.session.takes[0] == session.takes[0]
    assert [ref.ident for ref in opened.session.takes] == ["take1", "take9"]
    assert {take.ident for take in opened.takes} == {"take1", "take9"}


def test_what_the_program_keeps_is_the_players_alone(work):
    session, takes = work
    folder = WorkFolder()
    folder.store(session, takes, None, True)
    lock = work_folder.session_lock(Path("/somewhere/a.puresignal"))
    lock.take()
    preferences.write(preferences.Preferences())
    writer = journal.Writer(xdg_folders.state() / "journal" / "x", ("kit",))
    writer.add([(1.0, 0, b"\x99\x24\x40")])
    for base in (xdg_folders.state(), xdg_folders.config()):
        assert base.stat().st_mode & 0o777 == 0o700
        files = [path for path in base.rglob("*") if path.is_file()]
        assert files
        assert {path.stat().st_mode & 0o777 for path in files} == {0o600}
    writer.close()
    lock.let_go()
    folder.remove()


def test_a_full_disk_has_no_room_for_the_number_in_a_lock_and_it_holds(tmp_path, monkeypatch):
    lock = Lock(tmp_path / "lock")

    def full(*_):
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(os, "getpid", lambda: full())
    assert lock.take()
    monkeypatch.undo()
    assert not Lock(tmp_path / "lock").take()
    lock.let_go()


def test_takes_are_written_once(work):
    session, takes = work
    folder = WorkFolder()
    folder.store(session, takes, None, True)
    path = folder.folder / "takes" / "take1.mid"
    before = path.stat().st_mtime_ns
    time.sleep(0.02)
    folder.store(edits.with_name(session, "x"), takes, None, True)
    assert path.stat().st_mtime_ns == before
    with pytest.raises(FileAccessError, match="Another window"):
        WorkFolder(folder.folder)
    folder.remove()


def test_a_lock_ends_with_its_process_however_that_ends(tmp_path):
    path = tmp_path / "lock"
    code = (
        "import sys, time, pathlib\nfrom puresignal.io.work_folder import Lock\n"
        "lock = Lock(pathlib.Path(sys.argv[1]))\nprint(lock.take(), flush=True)\ntime.sleep(60)"
    )
    with subprocess.Popen([sys.executable, "-c", code, str(path)], stdout=subprocess.PIPE, text=True) as holder:
        assert holder.stdout.readline().strip() == "True"
        assert not Lock(path).take()
        holder.kill()
        holder.wait(5)
        mine = Lock(path)
        assert mine.take()
        mine.let_go()


def test_folders_follow_the_xdg_specification(monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", "/somewhere/state")
    assert xdg_folders.state() == Path("/somewhere/state/pure-signal")
    monkeypatch.setenv("XDG_STATE_HOME", "relative/is/ignored")
    assert xdg_folders.state() == Path.home() / ".local/state/pure-signal"
