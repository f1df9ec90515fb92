"""Shared fixtures: clean folders for the user's files, and takes to work on."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import hypothesis
import numpy as np
import pytest

from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.tempo_map import TempoMap, on_arrival_grid
from puresignal.io import note_map_file
from puresignal.sim import drum_module, drummer, grooves

# Tests read what is said, wherever they run.
os.environ["LANGUAGE"] = "en"
# At home every run tries new examples; where a change is judged, the same ones each time. None has a time limit of
# its own: a host that takes the processor away would break it.
hypothesis.settings.register_profile("home", deadline=None)
hypothesis.settings.register_profile("ci", deadline=None, derandomize=True)
hypothesis.settings.load_profile("ci" if os.environ.get("CI") else "home")


def pytest_sessionfinish() -> None:
    used = sys.modules.get("tests.engine.conftest")
    if used is not None:
        used.stop_kept_servers()


@pytest.fixture(autouse=True)
def own_folders(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Give every test its own state, config and data folders."""
    home = tmp_path_factory.mktemp("home")
    for name in ("XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME"):
        monkeypatch.setenv(name, str(home / name.lower()))
    return home


def take_of(rows: list[tuple[float, int, int, int]], ports: tuple[Port, ...] = (Port("kit"),)) -> Take:
    """A recorded take from (seconds, status, data1, data2) rows in any order of time."""
    rows = sorted(rows, key=lambda row: row[0])
    columns = list(zip(*rows, strict=True)) or [(), (), (), ()]
    n = len(rows)
    events = Events(
        on_arrival_grid(np.array(columns[0], float)), np.zeros(n), columns[1], columns[2], columns[3], np.full(n, -1)
    )
    return Take("t", "t", events, ports, TempoMap.steady(120))


def hit(at: float, note: int, velocity: int = 90, length: float = 0.05, channel: int = 10) -> list:
    """A note-on and its note-off."""
    return [(at, 0x8F + channel, note, velocity), (at + length, 0x7F + channel, note, 64)]


@pytest.fixture(scope="session")
def kit_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A file as a drum module sent it, faults included: forty bars at 104 BPM on the practice kit."""
    from puresignal.core.midi.standard_midi_file import Messages, Song, SongTrack
    from puresignal.io import midi_writer

    performance = drummer.improvise(40, 104, 11)
    sent = drum_module.DrumModule(note_map_file.shipped("practice-five"), drum_module.Faults.usual(), 11).perform(
        performance
    )
    tempo = TempoMap.steady(104, ppq=480)
    events = sent.events
    keep = events.status < 0xF0
    messages = Messages(
        tempo.seconds_to_ticks(events.arrived[keep]), events.status[keep], events.data1[keep], events.data2[keep],
        np.full(int(keep.sum()), -1),
    )  # fmt: skip
    path = tmp_path_factory.mktemp("files") / "rehearsal.mid"
    path.write_bytes(midi_writer.to_bytes(Song(0, tempo, (SongTrack("Module", messages),))))
    return path


@pytest.fixture(scope="session")
def ferry() -> drum_module.Sent:
    """The tune once on the practice kit with its usual faults, and the ground truth."""
    performance = drummer.play(grooves.QUARTER_PAST_FERRY, 92, 5)
    return drum_module.DrumModule(note_map_file.shipped("practice-five"), drum_module.Faults.usual(), 5).perform(
        performance
    )
