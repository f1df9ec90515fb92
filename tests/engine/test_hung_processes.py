"""Each process of the engine killed, stopped and slowed while notes are held: nothing hangs at the receiver for long.

bench/kills.py kills by the hundred.
"""

from __future__ import annotations

import os
import signal
import threading
import time

import numpy as np
import pytest

from puresignal.engine import client, pulse
from puresignal.engine.client import RouterProcess
from puresignal.engine.process_clients import PlayerProcess
from puresignal.engine.ring import Reader
from puresignal.engine.router_config import RouterConfig
from puresignal.io import journal, ports
from tests.engine.conftest import until
from tests.engine.test_port_contract import KIT, MAPPED_OFF, MAPPED_ON, ON, ROOM, answered, messages, wait_for

WITHIN = 1.5
"""Seconds within which a note has to end after its process was stopped: a quarter of one on a quiet machine."""


class Window:
    """What the window does: it looks at everything 50 times a second."""

    def __init__(self, setup, folder=None):
        self.router = RouterProcess(setup, folder)
        self.player = PlayerProcess(self.router)
        self.state, self.longest = {}, 0.0
        self._ended = False
        self.reader = Reader(self.router.ring)

    def look(self, seconds, condition=lambda: False, what=""):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            self.router.watch_recorder()
            self.router.watch_devices()
            self.player.watch()
            self.state = self.router.read(0.0) or self.state
            if condition():
                return
            time.sleep(0.02)
        assert not what, f"{what} did not come about in {seconds} s"

    def close(self):
        self.player.close()
        return self.router.close()


@pytest.fixture
def stage(peers, tmp_path, monkeypatch):
    monkeypatch.setattr(client, "SPARE_AFTER", 0.1)
    kit, synth = peers("kit"), peers("synth")
    window = Window(RouterConfig(("kit:out", ports.KEYBOARD), ("synth:in",), KIT, ROOM), tmp_path / "journal")
    wait_for(window.router, [True, True], [True])
    answered(kit, synth)
    yield window, kit, synth
    # Whatever was stopped or killed, everything ends, and nothing is left.
    assert window.close() in (0, -signal.SIGKILL)


def held(kit, synth):
    """Hold a note: such a server loses what comes in a block that it could not finish in time."""
    for _ in range(8):
        kit.play(ON)
        try:
            until(lambda: MAPPED_ON in messages(synth), 1)
        except AssertionError:
            continue
        return
    raise AssertionError("the note")


def ends_in_time(window, is_ended):
    begun = time.monotonic()
    window.look(5, is_ended, "the ends")
    assert time.monotonic() - begun < WITHIN


@pytest.mark.waits_for_none
def test_a_router_that_dies_or_hangs_is_replaced_and_its_note_ends(stage):
    window, kit, synth = stage
    for how in (signal.SIGKILL, signal.SIGSTOP):
        window.look(6, lambda: window.router._spare is not None, "the router that stands by")
        window.look(0.6)
        synth.got.clear()
        held(kit, synth)
        os.kill(window.router.process.pid, how)
        ends_in_time(window, lambda: MAPPED_OFF[:2] in [m[:2] for m in messages(synth)])
        window.look(5, lambda: window.state["outputs"] == ["synth:in"] and window.state["inputs"][0], "the connection")
        answered(kit, synth)
        assert window.router.hung == int(how == signal.SIGSTOP)


@pytest.mark.waits_for_none
def test_a_player_that_dies_or_hangs_leaves_no_note_and_plays_on(stage):
    window, _, synth = stage
    at = np.arange(60) * 0.2
    ons = np.tile(np.array([[0, 0x90, 30, 80]], np.uint8), (60, 1))
    ons[:, 2] += np.arange(60, dtype=np.uint8)
    # Notes that are never ended: whoever started them has to see to it.
    window.player.use(at, ons)
    window.player.play(0.0, [])

    def notes(kind):
        return [m[1] for m in messages(synth) if m[0] == kind]

    for how in (signal.SIGKILL, signal.SIGSTOP):
        count = len(notes(0x90))
        window.look(5, lambda count=count: len(notes(0x90)) >= count + 3, "some notes")
        held = set(notes(0x90))
        os.kill(window.player._told._process.pid, how)
        ends_in_time(window, lambda held=held: held <= set(notes(0x80)))
        before = max(notes(0x90))
        window.look(8, lambda before=before: max(notes(0x90)) > before + 2, "more notes")
        # It went on about where it was: not from the start.
        assert min(notes(0x90)[len(held) + 1 :]) >= before - 3
    window.player.stop()


@pytest.mark.waits_for_none
def test_simulated_devices_that_die_or_hang_leave_no_note_and_play_on(stage):
    window, _, synth = stage
    window.router.devices(play=ports.KEYBOARD, bpm=120, seed=3)

    def sounding():
        held = {}
        for m in messages(synth):
            if m[0] & 0xF0 in (0x80, 0x90):
                held[m[0] & 0x0F, m[1]] = m[0] & 0xF0 == 0x90 and m[2] > 0
        return {key for key, on in held.items() if on}

    for how in (signal.SIGKILL, signal.SIGSTOP):
        window.look(8, lambda: len(sounding()) > 0, "a note")
        os.kill(window.router._devices.pid, how)
        held = sounding()
        ends_in_time(window, lambda held=held: not held & sounding())
        count = len(messages(synth))
        window.look(8, lambda count=count: len(messages(synth)) > count + 4, "more notes")


def test_a_recorder_that_dies_or_hangs_misses_nothing(stage, tmp_path):
    window, kit, synth = stage
    sent = []
    for i in range(60):
        if i in (10, 35):
            os.kill(window.router._recorder.pid, signal.SIGKILL if i == 10 else signal.SIGSTOP)
        message = bytes((0xB0, 20, i))
        sent.append(message)
        kit.play(message)
        window.look(0.03)
    window.look(5, lambda: len([m for m in messages(synth) if m[0] == 0xB0]) == len(sent), "the messages")

    def kept():
        rows = journal.read(sorted((tmp_path / "journal").rglob("*.journal")))[1]
        return [data for _, _, data in rows if data[0] == 0xB0]

    window.look(4, lambda: kept() == sent, "the journal")


def test_a_slow_process_is_left_alone(stage):
    window, kit, synth = stage
    pid, ended = window.router.process.pid, threading.Event()

    def slow():
        # Stopped for half of the time, as on a machine that is far too busy.
        while not ended.is_set():
            os.kill(pid, signal.SIGSTOP)
            time.sleep(0.04)
            os.kill(pid, signal.SIGCONT)
            time.sleep(0.04)

    thread = threading.Thread(target=slow)
    thread.start()
    window.look(2)
    ended.set()
    thread.join()
    assert window.router.process.pid == pid
    assert window.router.hung == 0
    answered(kit, synth)


def test_a_machine_that_stood_still_is_no_hung_process():
    memory = pulse.make()
    watch, beat = pulse.PulseWatch(memory), pulse.Pulse(memory, pulse.PLAYER)
    assert not any(watch.hangs(pulse.PLAYER) for _ in range(20)), "it has not started yet"
    beat.beat()
    assert not watch.hangs(pulse.PLAYER)
    time.sleep(0.3)
    assert not watch.hangs(pulse.PLAYER), "one look after a long time is one look"

    def looks():
        """Looks until it hangs."""
        for number in range(1, 100):
            time.sleep(pulse.LOOK_EVERY * 1.1)
            if watch.hangs(pulse.PLAYER):
                return number
        return None

    first = looks()
    assert first <= pulse.LOOKS
    beat.beat()
    watch.hangs(pulse.PLAYER)
    # So soon again, it is the machine that may be slow.
    assert looks() == 2 * pulse.LOOKS
    os.close(memory)
