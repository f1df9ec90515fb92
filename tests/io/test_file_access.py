"""Writing to a failing disk: nothing half-written, the old file unharmed."""

from __future__ import annotations

import os
import subprocess
import sys
import threading

import pytest

from puresignal.core.errors import FileAccessError
from puresignal.io import file_access

TINY = """
import pathlib, resource, signal, sys
from puresignal.io import file_access
# No file may grow beyond 4 kB: the system's refusal is real. In a process of its own, for the limit holds for
# everything that a process writes, the test's own output among it.
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (4096, 4096))
path = pathlib.Path(sys.argv[1])
try:
    file_access.write_bytes(path, b"x" * 10_000, keep_as=path.with_suffix(".last"))
except file_access.FileAccessError as error:
    print(error)
"""


def test_a_write_that_fails_leaves_the_old_file_and_nothing_else(tmp_path):
    path = tmp_path / "take.mid"
    path.write_bytes(b"old")
    done = subprocess.run([sys.executable, "-c", TINY, str(path)], capture_output=True, text=True, check=True)
    assert "take.mid" in done.stdout
    assert "nothing was written" in done.stdout
    assert path.read_bytes() == b"old"
    assert os.listdir(tmp_path) == ["take.mid"]


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can mount a small disk")
def test_a_full_disk_is_named_as_the_cause(tmp_path):
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", str(tmp_path)], check=False)
    if mounted.returncode:
        pytest.skip("mounting is not allowed here")
    try:
        with pytest.raises(FileAccessError, match="disk is full"):
            file_access.write_bytes(tmp_path / "take.mid", b"x" * 200_000)
        assert os.listdir(tmp_path) == []
    finally:
        subprocess.run(["umount", str(tmp_path)], check=True)


def test_an_unwritable_place_is_reported(tmp_path):
    with pytest.raises(FileAccessError, match="no such file or folder"):
        file_access.write_bytes(tmp_path / "none" / "a.mid", b"x")
    with pytest.raises(FileAccessError, match="folder, not a file"):
        file_access.read_bytes(tmp_path)


def test_a_new_file_has_the_usual_permissions(tmp_path):
    path = tmp_path / "a.mid"
    file_access.write_bytes(path, b"x")
    other = tmp_path / "b.mid"
    other.write_bytes(b"x")
    assert path.stat().st_mode == other.stat().st_mode
    path.chmod(0o600)
    file_access.write_bytes(path, b"y")
    assert path.stat().st_mode & 0o777 == 0o600


@pytest.mark.skipif(os.geteuid() == 0 and not sys.platform.startswith("linux"), reason="needs a user without rights")
def test_an_unreadable_file_is_reported(tmp_path):
    path = tmp_path / "a.mid"
    path.write_bytes(b"x")
    path.chmod(0)
    script = (
        "import os, sys, pathlib\nfrom puresignal.io import file_access\n"
        "os.setuid(65534) if os.geteuid() == 0 else None\n"
        "try: file_access.read_bytes(pathlib.Path(sys.argv[1]))\nexcept Exception as e: print(type(e).__name__, e)"
    )
    for folder in (tmp_path, *tmp_path.parents):
        if str(folder).startswith("/tmp") and folder.owner():
            folder.chmod(folder.stat().st_mode | 0o055)
    done = subprocess.run([sys.executable, "-c", script, str(path)], capture_output=True, text=True, check=True)
    assert done.stdout.startswith("FileAccessError You have no permission")


def test_the_file_is_there_at_every_moment_of_a_save_and_the_last_copy_is_kept(tmp_path, monkeypatch):
    path = tmp_path / "a.puresignal"
    path.write_bytes(b"one")
    seen = []
    for name in ("replace", "link"):
        real = getattr(os, name)

        def watched(*arguments, real=real):
            real(*arguments)
            seen.append(path.read_bytes())

        monkeypatch.setattr(os, name, watched)
    file_access.write_bytes(path, b"two", keep_as=tmp_path / "a.puresignal.last")
    assert seen == [b"one", b"one", b"two"]
    assert (tmp_path / "a.puresignal.last").read_bytes() == b"one"
    assert sorted(os.listdir(tmp_path)) == ["a.puresignal", "a.puresignal.last"]


def test_a_link_stays_a_link_and_its_file_is_updated(tmp_path):
    (tmp_path / "real").mkdir()
    real, link = tmp_path / "real" / "a.mid", tmp_path / "link.mid"
    real.write_bytes(b"old")
    link.symlink_to(real)
    file_access.write_bytes(link, b"new")
    assert link.is_symlink()
    assert real.read_bytes() == b"new"


@pytest.mark.parametrize("name", ["/dev/null", "pipe"])
def test_a_device_or_pipe_is_neither_read_nor_replaced(tmp_path, name):
    path = tmp_path / name
    if name == "pipe":
        os.mkfifo(path)
    before = os.lstat(path).st_mode
    for act in (lambda: file_access.write_bytes(path, b"x"), lambda: file_access.read_bytes(path)):
        with pytest.raises(FileAccessError, match="pipe or a device"):
            act()
    assert os.lstat(path).st_mode == before


@pytest.mark.parametrize("name", ["n" * 251 + ".mid", "t\udcff\udcfe.mid", "new\nline\x1b[2J.mid"])
def test_any_name_that_the_system_allows_can_be_written(tmp_path, name):
    file_access.write_bytes(tmp_path / name, b"x")
    assert file_access.read_bytes(tmp_path / name) == b"x"
    assert os.listdir(tmp_path) == [name]


@pytest.mark.parametrize("name", ["n" * 300, "a\0b"])
def test_a_name_that_the_system_refuses_is_refused_in_words(tmp_path, name):
    for act in (
        lambda: file_access.write_bytes(tmp_path / name, b"x"),
        lambda: file_access.read_bytes(tmp_path / name),
    ):
        with pytest.raises(FileAccessError):
            act()


def test_what_killed_runs_left_is_cleared_and_what_others_write_is_not(tmp_path, monkeypatch):
    path = tmp_path / "a.mid"
    monkeypatch.setattr(os, "replace", lambda *_: os._exit(0))
    child = os.fork()
    if not child:
        file_access.write_bytes(path, b"half")
    os.waitpid(child, 0)
    monkeypatch.undo()
    [left] = os.listdir(tmp_path)
    file_access.write_bytes(path, b"whole")
    assert left in os.listdir(tmp_path), "it may be in use"
    os.utime(tmp_path / left, (1, 1))
    file_access.write_bytes(path, b"whole")
    assert os.listdir(tmp_path) == ["a.mid"]


def test_a_session_of_which_only_the_last_copy_is_left_opens(tmp_path):
    from puresignal.demo import demo_session
    from puresignal.io import session_file

    session, takes = demo_session.build()
    path = tmp_path / "a.puresignal"
    session_file.write(path, session, {take.ident: take for take in takes})
    path.rename(tmp_path / "a.puresignal.last")
    assert session_file.read(path).session == session


def test_of_several_that_write_one_new_name_at_once_one_succeeds(tmp_path):
    path = tmp_path / "a.mid"
    told = []

    def write(number):
        try:
            file_access.write_bytes(path, bytes([number]) * 10_000, new=True)
            told.append(number)
        except FileAccessError as error:
            assert "exists already" in str(error)

    threads = [threading.Thread(target=write, args=(number,)) for number in range(16)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    [winner] = told
    assert path.read_bytes() == bytes([winner]) * 10_000
    assert os.listdir(tmp_path) == ["a.mid"]
