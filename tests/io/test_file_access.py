"""Writing to a failing disk: nothing half-written, the old file unharmed."""

from __future__ import annotations

import os
import subprocess
import sys

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
