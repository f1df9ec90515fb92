"""Ports are offered as they come and go, by a process that may die."""

from __future__ import annotations

import os
import signal

from tests.engine.conftest import peers, prompt, server  # noqa: F401 - fixtures
from tests.ui.test_live import offered


def names(panel):
    return {panel.source_port.itemData(i) for i in range(panel.source_port.count())}


def test_a_port_that_comes_is_offered_and_one_that_goes_is_not(window, peers, qtbot):  # noqa: F811
    kit = peers("kit")
    panel = offered(window, qtbot, "kit:out")
    peers("late")
    qtbot.waitUntil(lambda: {"kit:out", "late:out"} <= names(panel), timeout=8000)
    kit.close()
    qtbot.waitUntil(lambda: "kit:out" not in names(panel), timeout=8000)


def test_the_watch_goes_on_when_its_process_dies_and_when_the_server_does(window, server, peers, qtbot):  # noqa: F811
    peers("kit")
    panel = offered(window, qtbot, "kit:out")
    watch = window.services.port_watch
    os.kill(watch._process._process.pid, signal.SIGKILL)
    peers("late")
    qtbot.waitUntil(lambda: "late:out" in names(panel), timeout=8000)
    server.stop()
    qtbot.waitUntil(lambda: "no JACK server" in watch.why, timeout=15_000)
    assert not watch.ports
    server.start()
    peers("again")
    qtbot.waitUntil(lambda: "again:out" in names(panel), timeout=15_000)
