"""How much a file from outside may hold: what ten hours of playing need, with room to spare.

A recording of ten hours at 400 messages a second, more than pedal and pads of a kit send, has 14 million messages in
58 MB. What is beyond is refused before it is taken apart; memory and time grow linearly below.
"""

from __future__ import annotations

MIDI_BYTES = 64 << 20
"""A MIDI file, and a take in a session."""
SESSION_BYTES = 512 << 20
"""A session on disk, and everything in it unpacked."""
AUDIO_BYTES = 384 << 20
"""The recordings in a session: two and a half hours of FLAC, or 35 minutes of stereo WAV."""
JSON_BYTES = 16 << 20
"""A map, a settings file, the description of a session."""
JSON_ITEMS = 1_500_000
"""Values in a JSON file: a session with 200,000 decisions on single notes has less than a million."""
METAS = 200_000
"""Texts, tempos and other meta events of a MIDI file."""
TEMPOS = 100_000
"""Changes of tempo or meter in a recorded take: three a second for ten hours."""
DELAY = 10.0
"""Seconds of an input's or output's delay."""
BEATS = 10_000_000
"""Beats of a session: ten hours at the fastest tempo have less than a million."""
CLOCK_SECONDS = 1e9
"""Seconds of a clock, and of a place in a recording: no machine runs for longer."""
TAKE_NUMBERS = 1 << 20
"""Takes that were ever added to a session: with the events of each, what a number of 52 bits can hold."""
LAYERS = 64
"""Tracks that the notes of one can be sent to."""
TAKES = 1_000
TRACKS = 10_000
INPUTS = 256
TEXT = 10_000
"""Characters of a name."""
RATES = (1_000, 1_000_000)
"""Samples per second of a recording: anything else is a damaged header."""
