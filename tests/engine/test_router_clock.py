"""The moment at which Record is pressed is told by the clock by which hits are timed, not by the system's."""

from __future__ import annotations

import time

import pytest

from puresignal.engine import shared_counters
from puresignal.engine.client import RouterProcess
from puresignal.engine.router_config import RouterConfig


@pytest.fixture
def router(tmp_path, monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    made = RouterProcess(RouterConfig((), ()))
    # Its own process would publish over what the test does.
    made.process.kill()
    made.process.wait(10)
    yield made
    made.close()


def publish(router, behind, ago=0.0):
    """A server whose clock is so many seconds behind the system's, and that said so some time ago."""
    at = time.monotonic() - ago
    clock = shared_counters.SharedCounters(router.clock)
    clock.write(round((at - behind) * 48_000), 48_000, round(at * 1e9), 256)


def test_a_server_that_lost_time_is_followed(router):
    publish(router, behind=0.3, ago=0.02)
    assert time.monotonic() - router.now() == pytest.approx(0.3, abs=0.005)


def test_without_a_clock_or_with_an_old_one_the_system_s_counts(router):
    shared_counters.SharedCounters(router.clock).write(0, 0, 0, 0)
    assert router.now() == pytest.approx(time.monotonic(), abs=0.01)
    publish(router, behind=0.3, ago=60.0)
    assert router.now() == pytest.approx(time.monotonic(), abs=0.01)
