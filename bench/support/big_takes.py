"""Big takes for the benchmarks, played by the simulated drummer."""

from __future__ import annotations

import numpy as np

from puresignal.core.midi.standard_midi_file import Messages, Song, SongTrack
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.io import midi_writer, note_map_file
from puresignal.sim import drum_module, drummer


def kit_file(notes: int, kit: str = "practice-five") -> bytes:
    """A file with this many notes as the kit's module sends them, faults included."""
    bars = 64
    performance = drummer.improvise(bars, 120, 1)
    sent = drum_module.DrumModule(note_map_file.shipped(kit), drum_module.Faults.usual(), 1).perform(performance)
    tempo = TempoMap.steady(120)
    keep = sent.events.status < 0xF0
    tick = tempo.seconds_to_ticks(sent.events.arrived[keep])
    status, data1, data2 = (getattr(sent.events, n)[keep] for n in ("status", "data1", "data2"))
    each = int(np.count_nonzero((status & 0xF0) == 0x90))
    length = bars * 4 * tempo.ppq
    rounds = -(-notes // each)
    ticks = (tick[None, :] + np.arange(rounds)[:, None] * length).ravel()
    order = np.argsort(ticks, kind="stable")
    last = np.flatnonzero(np.cumsum((np.tile(status, rounds)[order] & 0xF0) == 0x90) >= notes)[0] + 1
    rows = order[:last]
    messages = Messages(
        ticks[rows], np.tile(status, rounds)[rows], np.tile(data1, rounds)[rows], np.tile(data2, rounds)[rows],
        np.full(len(rows), -1),
    )  # fmt: skip
    return midi_writer.to_bytes(Song(0, tempo, (SongTrack("Module", messages),)))
