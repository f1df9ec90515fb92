"""A window on a take of 100,000 notes."""

from __future__ import annotations

from support.big_takes import kit_file

from puresignal.core.midi.standard_midi_file import to_take
from puresignal.io import midi_reader, note_map_file
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench


def big_window() -> MainWindow:
    bench = Workbench()
    window = MainWindow(bench)
    take = to_take(midi_reader.parse(kit_file(100_000), "bench.mid"), "t", "bench")
    bench.add_take(take, note_map_file.shipped("practice-five"), "open")
    return window
