"""Files by other writers come out of `clean` with every note, controller, program and bend, in order."""

from __future__ import annotations

from collections import Counter

import pytest

from puresignal.commands import clean
from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.path.cleaning_path import CleaningPath, with_faults, with_unmapped
from puresignal.io import midi_reader, note_map_file
from tests.io.foreign_files import make

GENERAL = note_map_file.shipped("general-midi")
KEPT = with_unmapped(with_faults(CleaningPath(), False), "keep")


def cleaned(content: bytes, folder) -> tuple[bytes, dict]:
    source, target = folder / "in.mid", folder / "out.mid"
    source.write_bytes(content)
    [done] = clean.clean_files([source], [target], clean.Job(GENERAL, GENERAL, KEPT), rows=False)
    assert done.error is None
    return target.read_bytes(), done.report


def contents(song):
    """By (port, channel): notes, and the other messages in the order of the file."""
    notes, others = {}, {}
    for track in song.tracks:
        open_notes = {}
        rows = track.messages
        for tick, status, a, b in zip(
            rows.tick.tolist(), rows.status.tolist(), rows.data1.tolist(), rows.data2.tolist(), strict=True
        ):
            key, kind = (track.port, status & 15), status & 0xF0
            if kind == 0x90 and b:
                open_notes.setdefault((key, a), []).append((tick, b))
            elif kind in (0x80, 0x90):
                start, velocity = open_notes[key, a].pop(0)
                notes.setdefault(key, Counter())[start, a, velocity, tick - start] += 1
            else:
                row = (tick, status, a) if kind in (0xC0, 0xD0) else (tick, status, a, b)
                others.setdefault(key, []).append(row)
        assert not any(open_notes.values()), "a note never ends"
    return notes, others


@pytest.mark.parametrize("seed", range(40))
def test_nothing_is_lost_added_or_put_out_of_order(seed, tmp_path):
    content, expected = make(seed)
    written, _ = cleaned(content, tmp_path)
    notes, others = contents(midi_reader.parse(written, "out.mid"))
    assert notes == {key: counted for key, counted in expected.notes.items() if counted}
    assert others == {key: rows for key, rows in expected.others.items() if rows}


def test_meters_names_and_offsets_keep_their_place_and_the_rest_is_said_once(tmp_path):
    def meta(kind, data):
        return bytes((0, 0xFF, kind, len(data))) + data

    first = meta(3, b"Quarter Past Ferry") + meta(0x54, b"\x20\0\0\0\0") + meta(0x58, bytes((7, 3, 36, 8)))
    bass = meta(3, b"Bass") + meta(4, b"Fretless") + meta(9, b"Rack") + bytes.fromhex("009228500a822840")
    kit = meta(3, b"Kit") + meta(4, b"Brushes") + meta(0x7F, b"\x7d\1") + bytes.fromhex("009924500a892440")
    content = b"MThd\0\0\0\6\0\1\0\3\1\xe0"
    for body in (first, bass, kit):
        body += b"\0\xff\x2f\0"
        content += b"MTrk" + len(body).to_bytes(4, "big") + body
    written, told = cleaned(content, tmp_path)
    song = midi_reader.parse(written, "out.mid")
    assert song.tracks[0].name == "Quarter Past Ferry"
    assert [(m.kind, m.data) for m in song.tracks[0].metas] == [(0x54, b"\x20\0\0\0\0")]
    meter = song.tempo.meters[0]
    assert (meter.numerator, meter.denominator, meter.clicks, meter.quarters) == (7, 8, 36, 8)
    named = next(t for t in song.tracks if "Bass" in t.name)
    assert [(m.kind, m.data) for m in named.metas] == [(4, b"Fretless"), (9, b"Rack")]
    [sentence] = [text for text in told["warnings"] if text.startswith("Not in the result")]
    assert "1 track name, 1 instrument name, 1 event for one sequencer" in sentence


def test_a_header_that_says_it_is_longer_than_the_file_is_repaired():
    content, _ = make(3)
    broken = content[:4] + (1 << 31).to_bytes(4, "big") + content[8:]
    song, whole = midi_reader.parse(broken, "x.mid"), midi_reader.parse(content, "x.mid")
    assert song.note_count == whole.note_count > 0
    assert "instead of 6" in song.notices[0]
    assert len(to_take(song, "t", "t").events) == len(to_take(whole, "t", "t").events)
