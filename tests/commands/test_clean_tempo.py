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
    assert "write keep, or a number from 5 to 1000" in capsys.readouterr().err
