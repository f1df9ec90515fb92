"""PipeWire's sinks as its monitors report them; the monitors are scripts here."""

from __future__ import annotations

import os
import time

import pytest

from puresignal.io.pipewire_sinks import SinkWatch

OBJECTS = """#!/bin/sh
echo '[{"id": 31, "info": {"props": {"media.class": "Audio/Sink", "node.name": "desk", "node.description": "Desk"}}},
  {"id": 32, "info": {"props": {"media.class": "Audio/Sink", "node.name": "room"}}},
  {"id": 33, "info": {"props": {"media.class": "Audio/Source", "node.name": "mouth"}}}]'
read answer < "$GATE"
echo '[{"id": 31, "info": null}]'
sleep 60
"""
SETTINGS = """#!/bin/sh
echo "update: id:0 key:'default.audio.sink' value:'{\\"name\\": \\"desk\\"}' type:'Spa:String:JSON'"
sleep 60
"""


@pytest.fixture
def monitors(tmp_path, monkeypatch):
    for name, text in (("pw-dump", OBJECTS), ("pw-metadata", SETTINGS)):
        (tmp_path / name).write_text(text)
        (tmp_path / name).chmod(0o755)
    gate = tmp_path / "gate"
    os.mkfifo(gate)
    monkeypatch.setenv("GATE", str(gate))
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")
    return gate


def looked(watch, wanted):
    end = time.monotonic() + 8
    while time.monotonic() < end:
        watch.look()
        if (watch.sinks, watch.default) == wanted:
            break
        time.sleep(0.02)
    return watch.sinks, watch.default


def test_sinks_come_and_go_and_one_is_the_default(monitors):
    watch = SinkWatch()
    try:
        assert looked(watch, (("Desk", "room"), "Desk")) == (("Desk", "room"), "Desk")
        monitors.write_text("unplug\n")
        assert looked(watch, (("room",), "")) == (("room",), "")
    finally:
        watch.close()


def test_without_a_terminal_for_the_monitors_no_sinks_are_known_and_nothing_fails(monitors, monkeypatch):
    def none():
        raise OSError(19, "No such device")

    monkeypatch.setattr(os, "openpty", none)
    watch = SinkWatch()
    watch.look()
    assert (watch.sinks, watch.default) == ((), "")
    watch.close()


def test_monitors_that_do_not_start_leave_no_open_files(monkeypatch, monitors):
    def fails(*_, **__):
        raise OSError(12, "Cannot allocate memory")

    monkeypatch.setattr("puresignal.io.pipewire_sinks.subprocess.Popen", fails)
    before = len(os.listdir("/proc/self/fd"))
    watch = SinkWatch()
    watch.look()
    watch.close()
    assert len(os.listdir("/proc/self/fd")) == before
