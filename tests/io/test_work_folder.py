from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

import pytest

from puresignal.core.errors import FileAccessError, PureSignalError
from puresignal.core.session import session as edits
from puresignal.demo import demo_session as demo
from puresignal.io import work_folder, xdg_folders
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
    with pytest.raises(PureSignalError, match=r"take1\.mid"):
        work_folder.recover(left)


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
