"""The JACK callback: JACK never calls one again that has raised."""

from __future__ import annotations

import time
from types import SimpleNamespace

from puresignal.engine import jack_client
from puresignal.engine.frame_counter import FrameCounter
from puresignal.engine.jack_client import JackClient


def test_an_error_in_one_block_costs_that_block_only():
    client = JackClient.__new__(JackClient)
    woken = []
    client._wake = lambda: woken.append(True)
    client._ending, client.errors, client.last_error = False, 0, None
    client._left, client._left_length, client._query = [], 0, None
    client._frames, client._counter = 256, FrameCounter(0, 48_000, time.monotonic())
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
    assert (client.errors, client._flow.frame) == (2, 0)
    client._begin_block = lambda frames: (768, [])
    client._process(256)
    assert (client.errors, client._flow.frame) == (2, 256)


def test_a_server_that_does_not_call_for_long_is_gone(monkeypatch):
    clock = SimpleNamespace(now=100.0)
    monkeypatch.setattr(jack_client.time, "monotonic", lambda: clock.now)
    client = JackClient.__new__(JackClient)
    client.server_gone, client._counter = False, FrameCounter(0, 48_000, clock.now)
    clock.now += 7.0
    assert not client.is_dead()
    clock.now += 2.0
    assert client.is_dead()


def test_a_full_buffer_of_one_output_costs_the_others_nothing():
    client = JackClient.__new__(JackClient)
    client.errors, sent = 0, []

    def full(offset, message):
        raise RuntimeError("no space")

    client._outputs = [
        SimpleNamespace(write_midi_event=full),
        SimpleNamespace(write_midi_event=lambda offset, message: sent.append((offset, message))),
    ]
    client._write([(0, 0, b"\x90\x24\x40"), (1, 1, b"\x80\x26\x00"), (2, 0, b"\x80\x24\x00"), (3, 1, b"\x80\x28\x00")])
    assert sent == [(1, b"\x80\x26\x00"), (3, b"\x80\x28\x00")]
    assert client.errors == 2
