"""Standard MIDI Files, written here as hex with a remark per line."""

from __future__ import annotations

import io

import mido
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.midi.events import Meta
from puresignal.core.midi.standard_midi_file import Messages, Song, SongTrack, to_take
from puresignal.core.midi.tempo_map import Meter, Tempo, TempoMap
from puresignal.io import midi_reader, midi_writer


def smf(*tracks: str, form: int = 1, division: str = "01e0", count: int | None = None) -> bytes:
    """A file from the bodies of its tracks in hex, with correct lengths."""
    out = bytes.fromhex(f"4d546864 00000006 {form:04x} {len(tracks) if count is None else count:04x} {division}")
    for body in tracks:
        data = bytes.fromhex(body)
        out += b"MTrk" + len(data).to_bytes(4, "big") + data
    return out


NOTE = "00 99 26 5a  30 89 26 40"  # snare, then its end
END = "00 ff2f00"


def rows(song: Song) -> list[tuple[int, int, int, int]]:
    return [
        row
        for track in song.tracks
        for row in zip(
            *(getattr(track.messages, n).tolist() for n in ("tick", "status", "data1", "data2")), strict=True
        )
    ]


SNARE = [(0, 0x99, 38, 90), (48, 0x89, 38, 64)]


@pytest.mark.parametrize(
    ("content", "expected", "notice"),
    [
        (smf(NOTE + END, form=0), SNARE, None),
        (smf("00 99 26 5a  30 26 00" + END), [(0, 0x99, 38, 90), (48, 0x99, 38, 0)], None),  # running status
        (smf("00 99 26 5a  00 f003 7e01f7  30 89 26 40" + END), [SNARE[0], (0, 0xF0, 0, 0), SNARE[1]], None),
        (smf("00 99 26 5a  00 f702 f801  30 89 26 40" + END), [SNARE[0], (0, 0xF7, 0, 0), SNARE[1]], None),
        (smf("00 99 26 f8 5a  30 89 26 40" + END), SNARE, "real-time"),
        (smf("00 f8  00 99 26 5a  30 fe 00 89 26 40" + END), SNARE, "stray system message 0xf8"),
        (smf("00 f2 0102  00 99 26 5a  30 89 26 40" + END), SNARE, "0xf2"),
        (smf(NOTE), SNARE, "end-of-track"),
        (smf(NOTE + END)[:-4] , SNARE, "promises"),
        (smf(NOTE + "00 99 24")[:], SNARE, "ends inside a message"),
        (smf("00 99 26 da  30 89 26 40" + END), SNARE, "above 127"),
        (smf("00 26 5a " + NOTE + END), SNARE, "without a status"),
        (smf(NOTE + END, form=7), SNARE, "format 7"),
        (smf(NOTE + END, count=3), SNARE, "promises 3 tracks"),
        (b"\0\0junk" + smf(NOTE + END), SNARE, "before the header"),
        (smf(NOTE + END) + b"XFIH\0\0\0\x02ab", SNARE, "XFIH"),
        (smf(NOTE + END) + b"\0\0\0\0\0\0\0\0\0\0", SNARE, "outside any chunk"),
        (smf(NOTE + END, division="0000"), SNARE, "ticks per quarter"),
        (smf("00 ff5103 000000" + NOTE + END), SNARE, "tempo event without"),
        (smf("00 ff5802 0002" + NOTE + END), SNARE, "meter"),
        (smf("00 ff20ffff7f" + NOTE + END), [], "promises"),
    ],
)  # fmt: skip
def test_what_can_be_read_is_used_and_the_place_of_the_rest_is_named(content, expected, notice):
    song = midi_reader.parse(content, "x.mid")
    assert rows(song) == expected
    if notice is None:
        assert song.notices == ()
    else:
        assert any(notice in text and text.startswith("x.mid") for text in song.notices), song.notices


def test_wrong_chunk_lengths_do_not_cost_the_next_track():
    good = smf(NOTE + END, "00 9a 24 50 10 8a 24 40" + END)
    for wrong in (1, 9, 40, 4000):
        content = bytearray(good)
        content[18:22] = wrong.to_bytes(4, "big")
        song = midi_reader.parse(bytes(content), "x.mid")
        assert rows(song) == [*SNARE, (0, 0x9A, 36, 80), (16, 0x8A, 36, 64)], wrong
        assert song.notices


@pytest.mark.parametrize(
    ("content", "message"),
    [(b"", "empty"), (b"hello, this is a letter", "not a MIDI file"), (b"MThd\0\0\0\x06\0\0", "inside its header"),
     (smf(), "no track")],
)  # fmt: skip
def test_other_files_are_refused_as_midi_by_name(content, message):
    with pytest.raises(BadFileError, match=message) as raised:
        midi_reader.parse(content, "x.mid")
    assert raised.value.args[1] == "x.mid"


@pytest.mark.parametrize(
    ("division", "seconds"),
    [("e728", 0.048), ("e250", 0.02), ("e878", 48 / (24 * 120)), ("e364", 48 * 1.001 / (30 * 100))],
)
def test_smpte_divisions_keep_every_tick_in_its_place(division, seconds):
    song = midi_reader.parse(smf(NOTE + END, division=division), "x.mid")
    assert song.tempo.ticks_to_seconds(np.array([48]))[0] == pytest.approx(seconds, abs=1e-12)
    again = midi_reader.parse(midi_writer.to_bytes(song), "x.mid")
    assert rows(again) == SNARE
    assert again.tempo.ticks_to_seconds(np.array([48]))[0] == pytest.approx(seconds, abs=1e-12)


def test_tempos_meters_names_and_texts():
    song = midi_reader.parse(
        smf(
            "00 ff0305 536e617265  00 ff5103 07a120  00 ff5804 03021808  8340 ff5103 0f4240  00 ff0504 6c612d6c" + END,
            "00 ff0304 48fc7465 00 ff2101 02" + NOTE + END,
        ),
        "x.mid",
    )
    assert song.tempo == TempoMap(480, (Tempo(0, 500_000), Tempo(448, 1_000_000)), (Meter(0, 3, 4),))
    assert [t.name for t in song.tracks] == ["Snare", "Hüte"]
    assert song.tracks[1].port == 2
    assert song.tracks[0].metas == (Meta(448, 5, b"la-l"),)


def test_type_2_patterns_are_laid_end_to_end():
    song = midi_reader.parse(smf(NOTE + "60 ff2f00", NOTE + END, form=2), "x.mid")
    assert [r[0] for r in rows(song)] == [0, 48, 144, 192]


def test_an_imported_take_knows_its_own_ticks_and_bytes():
    content = smf(NOTE + END, form=0, division="0003")
    take = to_take(midi_reader.parse(content, "x.mid"), "t", "t", content)
    assert take.ticks.tolist() == [0, 48]
    assert take.original == content
    assert take.events.arrived.tolist() == [0.0, 8.0]


channel_rows = st.lists(
    st.tuples(
        st.integers(0, 300_000), st.sampled_from([0x80, 0x90, 0xA0, 0xB0, 0xC0, 0xD0, 0xE0]), st.integers(0, 15),
        st.integers(0, 127), st.integers(0, 127),
    ),
    max_size=30,
)  # fmt: skip


def song_from(tracks, tempos=()) -> Song:
    made = []
    for name, data in tracks:
        data = sorted(data, key=lambda r: r[0])
        status = np.array([r[1] | r[2] for r in data], int)
        short = (status >= 0xC0) & (status < 0xE0)
        made.append(
            SongTrack(
                name,
                Messages(
                    np.array([r[0] for r in data], int), status, np.array([r[3] for r in data], int),
                    np.where(short, 0, np.array([r[4] for r in data], int)), np.full(len(data), -1),
                ),
            )
        )  # fmt: skip
    return Song(1, TempoMap(480, tuple(tempos)), tuple(made))


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(st.text(st.characters(codec="utf-8", categories=["L", "N"]), max_size=6), channel_rows),
        min_size=1,
        max_size=3,
    )
)
def test_written_files_read_back_and_mido_agrees(tracks):
    song = song_from(tracks, [Tempo(0, 600_000), Tempo(960, 400_000)])
    content = midi_writer.to_bytes(song)
    ours = midi_reader.parse(content, "x.mid")
    assert ours.notices == ()
    assert rows(ours) == rows(song)
    assert [t.name for t in ours.tracks] == [t.name for t in song.tracks]
    assert ours.tempo.tempos == song.tempo.tempos
    theirs = mido.MidiFile(file=io.BytesIO(content), charset="utf-8")
    for track, mine in zip(theirs.tracks, ours.tracks, strict=True):
        at, found = 0, []
        for message in track:
            at += message.time
            if not message.is_meta:
                found.append((at, message.bytes()))
        columns = (mine.messages.tick, mine.messages.status, mine.messages.data1, mine.messages.data2)
        mine_rows = [
            (t, [s, a] if 0xC0 <= s < 0xE0 else [s, a, b])
            for t, s, a, b in zip(*(c.tolist() for c in columns), strict=True)
        ]
        assert found == mine_rows


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.just("a"), channel_rows), min_size=1, max_size=2), st.booleans(), st.booleans())
def test_running_status_and_zero_ends_say_the_same_in_fewer_bytes(tracks, running, zero_ends):
    song = song_from(tracks, [Tempo(0, 600_000), Tempo(960, 400_000)])
    usual, content = midi_writer.to_bytes(song), midi_writer.to_bytes(song, True, running, zero_ends)
    assert len(content) <= len(usual)
    read = rows(midi_reader.parse(content, "x.mid"))
    if zero_ends:
        wanted = [
            (t, s | 0x10 if s & 0xF0 == 0x80 else s, a, 0 if s & 0xF0 == 0x80 else b) for t, s, a, b in rows(song)
        ]
    else:
        wanted = rows(song)
    assert read == wanted
    theirs = [m for track in mido.MidiFile(file=io.BytesIO(content)).tracks for m in track if not m.is_meta]
    assert len(theirs) == len(wanted)
    if zero_ends:
        assert not any(m.type == "note_off" for m in theirs)


def test_a_row_of_notes_on_one_channel_has_one_status_byte():
    song = song_from([("", [(i * 10, 0x90, 9, 38, 90) for i in range(50)])])
    content = midi_writer.to_bytes(song, running=True)
    assert content.count(b"\x99") == 1
    assert len(midi_writer.to_bytes(song)) - len(content) == 49


def test_pauses_longer_than_the_largest_delta_time():
    far = 0x0FFFFFFF * 2 + 77
    song = Song(1, TempoMap(480), (SongTrack("a", Messages([5, far], [0x90, 0x80], [60, 60], [9, 9], [-1, -1])),))
    assert [r[0] for r in rows(midi_reader.parse(midi_writer.to_bytes(song), "x"))] == [5, far]


@settings(max_examples=300, deadline=None)
@given(st.binary(max_size=200), st.integers(0, 3))
def test_any_bytes_are_read_or_refused(data, shape):
    body = smf(data.hex() + END, form=shape % 3) if shape else data
    try:
        song = midi_reader.parse(body, "x.mid")
    except PureSignalError as error:
        assert "x.mid" in str(error)
        return
    for track in song.tracks:
        m = track.messages
        assert np.all(np.diff(m.tick) >= 0)
        assert np.all((m.status >= 0x80) & (m.data1 < 128) & (m.data2 < 128))
    to_take(song, "t", "t", body)
    again = midi_reader.parse(midi_writer.to_bytes(song), "x.mid")
    assert rows(again) == rows(song)


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_a_good_file_with_damage_still_gives_what_can_be_read(data):
    content = bytearray(smf((NOTE + " ") * 20 + END, (NOTE + " ") * 5 + END))
    for _ in range(data.draw(st.integers(1, 6))):
        content[data.draw(st.integers(22, len(content) - 1))] = data.draw(st.integers(0, 255))
    del content[data.draw(st.integers(30, len(content))) :]
    song = midi_reader.parse(bytes(content), "x.mid")
    assert all(np.all(np.diff(t.messages.tick) >= 0) for t in song.tracks)
