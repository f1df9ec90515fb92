"""Real-time scheduling: by right, from a stand-in for RTKit on a bus of the test's own, or not."""

from __future__ import annotations

import os
import resource
import shutil
import signal
import subprocess
import sys
from pathlib import Path

import pytest

STAND_IN = Path(__file__).with_name("rtkit_stand_in.py")
ASK = """
import os, resource, threading
from puresignal.io import realtime
def refuse(*_): raise PermissionError
os.sched_setscheduler = refuse
print(threading.get_native_id(), *realtime.ask(), *resource.getrlimit(resource.RLIMIT_RTTIME), sep="|")
"""


@pytest.fixture
def bus(monkeypatch):
    if shutil.which("dbus-daemon") is None:
        if os.environ.get("CI"):
            pytest.fail("dbus-daemon is missing; ./run test installs it")
        pytest.skip("needs dbus-daemon, which ./run test installs where it may")
    command = ["dbus-daemon", "--session", "--fork", "--print-address=1", "--print-pid=1"]
    address, pid = subprocess.run(command, stdout=subprocess.PIPE, text=True, check=True).stdout.split()
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", address)
    yield
    os.kill(int(pid), signal.SIGTERM)


@pytest.fixture
def service(bus):
    started = []

    def start(mode):
        started.append(subprocess.Popen([sys.executable, STAND_IN, mode], stdout=subprocess.PIPE, text=True))
        assert started[-1].stdout.readline() == "ready\n"
        return started[-1]

    yield start
    for one in started:
        one.kill()
        one.communicate()


def asked():
    """What a process without the right gets: thread, by, why, limits."""
    done = subprocess.run([sys.executable, "-c", ASK], capture_output=True, text=True, check=True)
    return done.stdout.strip().split("|")


def test_without_the_right_the_service_is_asked_for_this_thread(service):
    granting = service("grant")
    thread, by, why, soft, hard = asked()
    assert (by, why) == ("RTKit", "")
    assert granting.stdout.readline().split() == [thread, "20"]
    # The service wants a thread that never pauses to be stopped.
    assert 0 < int(soft) <= int(hard) <= 200_000


def test_a_refusal_is_told_in_its_own_words(service):
    service("refuse")
    _, by, why, *_ = asked()
    assert by == ""
    assert "not today" in why


def test_without_the_service_the_reason_is_told(bus):
    _, by, why, *_ = asked()
    assert by == ""
    assert "RTKit" in why


@pytest.mark.skipif(os.geteuid() != 0, reason="only root may give itself real time")
def test_who_has_the_right_has_it():
    code = "from puresignal.io import realtime; print(realtime.ask().by, realtime.has_it(), realtime.may_have().by)"
    limits = resource.getrlimit(resource.RLIMIT_RTTIME)
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["limits", "True", "limits"]
    assert resource.getrlimit(resource.RLIMIT_RTTIME) == limits
