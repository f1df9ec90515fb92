"""The JACK callback: JACK never calls one again that has raised."""

from __future__ import annotations

import itertools
import time
from types import SimpleNamespace

from puresignal.engine import jack_client
from puresignal.engine.jack_client import JackClient


def test_an_error_in_one_block_costs_that_block_only():
    client = JackClient.__new__(JackClient)
    woken = []
    client._wake = lambda: woken.append(True)
    client._ending, client.errors, client.last_error = False, 0, None
    client._last, client._ran = -1, time.monotonic()
    client._flow = SimpleNamespace(router=SimpleNamespace(is_asleep=True), frame=0, rate=48_000, is_still=lambda: True)

    def broken(frames):
        raise ValueError("a message that nobody expected")

    client._begin_block = broken
    client._process(256)
    client._process(256)
    assert client.errors == 2
    assert str(client.last_error) == "a message that nobody expected"
    assert woken
    client._begin_block = lambda frames: (512, [])
    client._process(256)
    assert (client.errors, client._last) == (2, 512)


def test_a_jump_of_the_servers_counter_is_no_gap_and_a_late_block_is(monkeypatch):
    clock = SimpleNamespace(now=100.0)
    monkeypatch.setattr(jack_client.time, "monotonic", lambda: clock.now)
    client = JackClient.__new__(JackClient)
    client._wake, client._ending, client.errors, client.last_error = lambda: None, False, 0, None
    client._last, client._ran, client.server_gone = -1, clock.now, False
    flow = SimpleNamespace(router=SimpleNamespace(is_asleep=True), frame=0, rate=48_000, is_still=lambda: True)
    client._flow = flow
    period = 256 / 48_000
    frames = []
    # Another device drives the graph from the third block on, and its counter is a day ahead; then it wraps; and
    # between the last two the machine stood still for ten blocks.
    for first, late in ((1000, 1), (1256, 1), (4_294_000_000, 1), (4_294_000_256, 1), (12, 1), (12 + 2560, 10)):
        clock.now += late * period
        client._begin_block = lambda _, first=first: (first, [])
        client._process(256)
        frames.append(flow.frame)
    assert [b - a for a, b in itertools.pairwise(frames)] == [256, 256, 256, 256, 2560]
    assert not client.is_dead()
    clock.now += 9.0
    assert client.is_dead()
