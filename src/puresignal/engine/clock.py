"""The router without a JACK server, on the machine's steady clock."""

from __future__ import annotations

import contextlib
import os
import select
import time
from collections.abc import Callable
from typing import Any

from puresignal.engine.message_flow import MessageFlow

CLOCK_RATE = 48_000
"""Frame rate without a server."""
TICK = 0.001
"""Seconds between checks for due messages while something sounds."""


def step(flow: MessageFlow) -> None:
    """Do the callback's work once: for what has arrived and what is due."""
    assert flow.router is not None
    flow.frame = int(time.monotonic() * CLOCK_RATE)
    incoming: list[tuple[int, int, bytes]] = []
    flow.collect(incoming)
    incoming.sort(key=lambda item: item[0])
    # The block is the time since the last one and lies in the past; everything due is sent now.
    leaving = flow.play(1, flow.router.cycle(flow.frame, 1, incoming), -CLOCK_RATE)
    flow.send_to_alsa(leaving)
    flow.publish(1)
    flow.keep(incoming, leaving)


def run(flow: MessageFlow, knock: int, call: int, seconds: float, is_ending: Callable[[], bool]) -> None:
    """Do the callback's work for some seconds, as soon as something arrives or is due.

    ALSA is read and written here, without a thread between: each handing over would cost what the whole path does.

    knock  eventfd signalled by inputs
    call   eventfd that ends the run early
    """
    router = flow.router
    assert router is not None
    alsa = flow.alsa
    waited_for: list[Any] = [knock, call] if alsa is None else [knock, call, alsa]
    end = time.monotonic() + seconds
    while not is_ending():
        now = time.monotonic()
        wait = TICK if router.is_busy() or flow.has_due else end - now
        ready, _, _ = select.select(waited_for, [], [], max(0.0, min(wait, end - now)))
        if alsa is not None and alsa in ready:
            alsa.read()
        if knock in ready:
            with contextlib.suppress(BlockingIOError):
                os.eventfd_read(knock)
        step(flow)
        if call in ready or time.monotonic() >= end or (alsa is not None and alsa.changed):
            break
