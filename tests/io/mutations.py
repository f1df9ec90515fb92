"""Mutated files of every kind that the program reads, and what reads them."""

from __future__ import annotations

import io
import random
import zipfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile

from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.path import settings_json
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.demo import demo_session
from puresignal.io import audio_file, journal, json_file, midi_reader, note_map_file, preferences, session_file
from tests.io.foreign_files import make

INTERESTING = (0, 1, 0x7F, 0x80, 0xFF, 0x4D, 0x7B, 0x5B, 0x22)


def mutate(draw: random.Random, content: bytes) -> bytes:
    """A few changes: bits, runs, cuts, copies, numbers at their ends."""
    data = bytearray(content)
    for _ in range(draw.choice((1, 1, 2, 4, 16))):
        if not data:
            return bytes(data)
        at, sort = draw.randrange(len(data)), draw.randrange(7)
        if sort == 0:
            data[at] ^= 1 << draw.randrange(8)
        elif sort == 1:
            data[at] = draw.choice(INTERESTING)
        elif sort == 2:
            del data[at : at + draw.choice((1, 2, 8, 100))]
        elif sort == 3:
            part = data[at : at + draw.choice((1, 4, 64, 1000))]
            data[at:at] = part * draw.choice((1, 2, 50))
        elif sort == 4:
            data[at : at + 4] = draw.choice((b"\xff\xff\xff\xff", b"\x7f\xff\xff\xff", b"\0\0\0\0", b"\x80\0\0\0"))
        elif sort == 5:
            del data[at:]
        else:
            data[at : at + 1] = draw.choice((b"[]", b"{}", b"null", b"1e999", b"-1", b'"\\ud800"', b"1" * 40))
    return bytes(data)


def rezipped(draw: random.Random, content: bytes) -> bytes:
    """A session whose entries are mutated and packed again, so that the damage is behind the zip's checks."""
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        entries = {name: archive.read(name) for name in archive.namelist()}
    changed = draw.choice(list(entries))
    entries[changed] = mutate(draw, entries[changed])
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in entries.items():
            archive.writestr(name, data)
    return out.getvalue()


class Kinds:
    """Seeds and readers of each kind."""

    def __init__(self, folder: Path):
        session, takes = demo_session.build()
        self._tempo = takes[0].tempo
        self._session = session_file.to_bytes(session, {take.ident: take for take in takes})
        self._midi = [make(seed)[0] for seed in range(40)]
        maps = [note_map_file.shipped(ident) for ident in ("general-midi", "practice-five")]
        self._maps = [json_file.to_bytes(note_map_file.to_json(one)) for one in maps]
        self._settings = json_file.to_bytes(settings_json.to_json(CleaningPath()))
        writer = journal.Writer(folder / "journal", ("kit", "pads"))
        writer.add([(n / 10, n % 2, b"\x99\x24\x40") for n in range(300)])
        writer.close()
        self._journal = next((folder / "journal").glob("*.journal")).read_bytes()
        preferences.write(preferences.Preferences(recent=("/a", "/b"), shortcuts=(("Play", "P"),)))
        self._preferences = preferences.path().read_bytes()
        sound = 0.5 * np.sin(np.arange(3000) / 9)
        self._audio = []
        for form, subtype in (("WAV", "PCM_16"), ("FLAC", "PCM_16"), ("OGG", "VORBIS"), ("AIFF", "PCM_24")):
            buffer = io.BytesIO()
            soundfile.write(buffer, sound, 22_050, subtype, format=form)
            self._audio.append(buffer.getvalue())
        self._file = folder / "file"

    def one(self, kind: str, draw: random.Random) -> Callable[[], object]:
        """Make one mutated file, and return what reads it."""
        if kind == "midi":
            content = mutate(draw, draw.choice(self._midi))
            return lambda: to_take(midi_reader.parse(content, "x.mid"), "x", "x")
        if kind == "sessions":
            content = draw.choice((mutate, rezipped))(draw, self._session)
            return lambda: session_file.parse(content, "x.puresignal")
        if kind == "maps":
            content = mutate(draw, draw.choice(self._maps))
            return lambda: note_map_file.from_json(json_file.parse(content, "x.json", "note map"), "x.json")
        if kind == "settings":
            content = mutate(draw, self._settings)
            return lambda: settings_json.from_json(json_file.parse(content, "x.json", "settings file"), "x.json")
        if kind == "journals":
            self._file.write_bytes(mutate(draw, self._journal))

            def read() -> object:
                inputs, rows = journal.read([self._file])
                return journal.to_take(rows, inputs, "x", "x", self._tempo) if rows else None

            return read
        if kind == "preferences":
            preferences.path().write_bytes(mutate(draw, self._preferences))
            return preferences.read
        self._file.write_bytes(mutate(draw, draw.choice(self._audio)))
        return lambda: audio_file.read(self._file, 22_050)


KINDS = ("midi", "sessions", "maps", "settings", "journals", "preferences", "audio")
