"""`pure-signal generate`: files of what recipes make, read by another library."""

from __future__ import annotations

import mido
import pytest

from puresignal import cli


def notes(path):
    return [(m.channel, m.note) for m in mido.MidiFile(path) if m.type == "note_on" and m.velocity]


def test_chords_and_what_plays_them(tmp_path):
    chords, bass = tmp_path / "chords.mid", tmp_path / "bass.mid"
    assert (
        cli.main(["generate", "chords", "--out", str(chords), "--key", "D minor", "--tempo", "92", "--bars", "4"]) == 0
    )
    made = notes(chords)
    assert 12 <= len(made) <= 16
    assert mido.MidiFile(chords).length == pytest.approx(16 * 60 / 92, rel=0.03)
    assert cli.main(["generate", "bass", "--source", str(chords), "--out", str(bass), "--set", "way=roots"]) == 0
    assert {note % 12 for _, note in notes(bass)} <= {n % 12 for _, n in made} | {
        (n + d) % 12 for _, n in made for d in (1, 11)
    }
    assert all(channel == 1 for channel, _ in notes(bass))
    again = tmp_path / "again.mid"
    assert (
        cli.main(["generate", "chords", "--out", str(again), "--key", "D minor", "--tempo", "92", "--bars", "4"]) == 0
    )
    assert notes(again) == made
    assert cli.main(["generate", "chords", "--out", str(again), "--key", "D minor", "--seed", "8", "--force"]) == 0
    assert notes(again) != made


def test_drums_in_another_meter(tmp_path):
    out = tmp_path / "drums.mid"
    assert cli.main(["generate", "drums", "--out", str(out), "--meter", "3/4", "--bars", "2", "--set", "fill=0"]) == 0
    assert {channel for channel, _ in notes(out)} == {9}
    assert mido.MidiFile(out).length < 6 * 0.5 + 0.2


@pytest.mark.parametrize(
    ("more", "says"),
    [
        (["arpeggio"], "--source"),
        (["drums", "--set", "kicks=99"], "0..12"),
        (["drums", "--set", "cowbells=2"], "ghosts"),
        (["drums", "--set", "kicks"], "kicks=4"),
        (["drums", "--set", "kicks=many"], "no value"),
        (["chords", "--set", "ending=loud"], "plagal"),
        (["chords", "--key", "H dur"], "D minor"),
    ],
)
def test_wrong_wishes_say_what_would_be_right(tmp_path, capsys, more, says):
    assert cli.main(["generate", *more, "--out", str(tmp_path / "a.mid")]) == 1
    assert says in capsys.readouterr().err
    assert not (tmp_path / "a.mid").exists()
