from __future__ import annotations

import numpy as np
import pytest

from puresignal import cli
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.io import midi_reader


def seconds_of(song):
    found = []
    for track in song.tracks:
        on = (track.messages.status & 0xF0 == 0x90) & (track.messages.data2 > 0)
        found += song.tempo.ticks_to_seconds(track.messages.tick[on]).tolist()
    return np.sort(np.array(found))


@pytest.mark.parametrize("bpm", ["97", "133.7"])
def test_another_tempo_keeps_every_second_and_writes_that_grid(kit_file, tmp_path, bpm):
    plain, other = tmp_path / "plain.mid", tmp_path / "other.mid"
    assert cli.main(["clean", str(kit_file), "--out", str(plain)]) == 0
    assert cli.main(["clean", str(kit_file), "--out", str(other), "--tempo", bpm]) == 0
    before, after = (midi_reader.parse(path.read_bytes(), path.name) for path in (plain, other))
    assert after.tempo.bpm_at(0.0) == pytest.approx(float(bpm), abs=0.01)
    assert after.tempo.ppq == before.tempo.ppq
    assert isinstance(after.tempo, TempoMap)
    # A tick is all that a file can be off by.
    assert np.abs(seconds_of(before) - seconds_of(after)).max() < 0.002
    assert len(seconds_of(before)) > 50


@pytest.mark.parametrize("text", ["fast", "0", "10000", "nan", ""])
def test_a_tempo_that_is_none_says_what_to_write(kit_file, tmp_path, text, capsys):
    with pytest.raises(SystemExit) as ended:
        cli.main(["clean", str(kit_file), "--out", str(tmp_path / "x.mid"), "--tempo", text])
    assert ended.value.code == 2
    assert "write keep, find, or a number from 5 to 1000" in capsys.readouterr().err


def test_the_beats_that_were_played_become_the_grid_and_onsets_stay(tmp_path):
    from puresignal.core.midi.tempo_map import on_arrival_grid
    from tests.core.timing.test_beat_finder import groove

    take, beats = groove(bpm=97.0, bars=12, jitter=0.008)
    path, out = tmp_path / "free.mid", tmp_path / "out.mid"
    path.write_bytes(take)
    assert cli.main(["clean", str(path), "--out", str(out), "--source-map", "general-midi", "--tempo", "find"]) == 0
    before, after = (midi_reader.parse(p.read_bytes(), p.name) for p in (path, out))
    moved = seconds_of(after) - seconds_of(before)
    # The file begins whole bars before its first hit: all onsets are later by the same.
    assert np.abs(moved - moved[0]).max() < 0.002
    # A beat that was played stands on a beat of the file.
    shift = float(moved[0])
    quarters = after.tempo.seconds_to_beats(on_arrival_grid(beats + shift))
    assert np.median(np.abs(quarters - np.rint(quarters))) < 0.03
    assert len(after.tempo.tempos) > 10


def test_nothing_steady_keeps_the_tempo_and_says_so(tmp_path, capsys):
    from tests.core.timing.test_beat_finder import file_of

    chance = np.random.default_rng(3)
    hits = [(float(at), 38, 90) for at in np.sort(chance.uniform(0, 20, 12))]
    path, out = tmp_path / "free.mid", tmp_path / "out.mid"
    path.write_bytes(file_of(hits[:3]))
    assert cli.main(["clean", str(path), "--out", str(out), "--tempo", "find"]) == 0
    assert "No steady beat was found" in capsys.readouterr().err
    assert midi_reader.parse(out.read_bytes(), "out").tempo.bpm_at(0.0) == pytest.approx(120)
