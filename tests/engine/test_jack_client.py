"""The JACK callback: JACK never calls one again that has raised."""

from __future__ import annotations

from types import SimpleNamespace

from puresignal.engine.jack_client import JackClient


def test_an_error_in_one_block_costs_that_block_only():
    client = JackClient.__new__(JackClient)
    woken = []
    client._wake = lambda: woken.append(True)
    client._ending, client.errors, client.last_error, client._last = False, 0, None, -1
    client._flow = SimpleNamespace(router=SimpleNamespace(is_asleep=True), frame=0, is_still=lambda: True)

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
