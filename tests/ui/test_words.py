"""Words and markers typed below the sheet of the real window; then the file."""

from __future__ import annotations

import io

import mido
import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt

from puresignal.core.analysis.sung import phrases, syllables
from puresignal.core.session import session as edits
from puresignal.io import session_file
from tests.ui.test_several_takes import trio  # noqa: F401 - fixture


@pytest.fixture
def bass(trio, qtbot):  # noqa: F811
    """The demo window with the bass line chosen and its words shown."""
    bench = trio.workbench
    ref = next(one for one in bench.session.takes if one.name == "Bass line")
    bench.do("", edits.with_current(bench.session, ref.ident))
    trio.activateWindow()
    trio.takes.toggle_words()
    return trio.takes


def click(qtbot, takes, place, y=60):
    words = takes.words
    qtbot.mouseClick(words, Qt.MouseButton.LeftButton, pos=QPoint(round(words.x_of_place(place)) + 2, y))


def texts(bench, kind="lyrics"):
    """(beat, text) of the texts of the file that is written."""
    made = mido.MidiFile(file=io.BytesIO(bench.midi_bytes()))
    found = []
    for track in made.tracks:
        tick = 0
        for message in track:
            tick += message.time
            if message.type == kind:
                found.append((tick, message.text))
    return sorted(found)


def test_syllables_are_typed_note_by_note_and_leave_with_their_notes(bass, trio, qtbot):  # noqa: F811
    click(qtbot, bass, 0)
    editor = bass.words.editor
    for text, key in (("Quar", Qt.Key.Key_Minus), ("ter", Qt.Key.Key_Space), ("past", Qt.Key.Key_Tab)):
        assert editor.isVisible()
        qtbot.keyClicks(editor, text)
        qtbot.keyClick(editor, key)
    qtbot.keyClick(editor, Qt.Key.Key_Escape)
    assert not editor.isVisible()
    line = bass.words.line
    assert line.text[:4] == ("Quar-", "ter ", "past", "")
    bench = trio.workbench
    notes, ppq = bench.whole.outcome.output_notes, bench.whole.take.tempo.ppq
    first = bench.whole.take.tempo.seconds_to_ticks(notes.start[np.isin(notes.origin, line.origin[:3])])
    assert [tick for tick, _ in texts(bench)] == sorted(first.tolist())
    assert [text for _, text in texts(bench)] == ["Quar-", "ter ", "past"]
    assert ppq > 0
    # Back, corrected, and undone word by word.
    click(qtbot, bass, 2)
    qtbot.keyClicks(editor, "by")
    qtbot.keyClick(editor, Qt.Key.Key_Backtab)
    assert editor.text() == "ter"
    assert bass.words.line.text[2] == "by"
    bench.undo()
    assert bass.words.line.text[2] == "past"
    assert trio.menus.undo.text() == "Undo: type 1 syllable"


def test_the_words_of_a_phrase_are_typed_at_once_and_its_bracket_selects_it(bass, trio, qtbot, tmp_path):  # noqa: F811
    words = bass.words
    first = words.line.rows_of(0)
    at = QPoint(round(words.x_of_place(0)) + 3, 30)
    qtbot.mouseClick(words, Qt.MouseButton.LeftButton, pos=at)
    assert set(bass.timeline.selected.tolist()) == set(words.line.origin[first].tolist())
    qtbot.mouseDClick(words, Qt.MouseButton.LeftButton, pos=at)
    qtbot.keyClicks(words.editor, "Quar-ter past the fer-ry")
    qtbot.keyClick(words.editor, Qt.Key.Key_Return)
    assert words.line.text[:7] == ("Quar-", "ter ", "past ", "the ", "fer-", "ry", "")
    bench = trio.workbench
    bench.save_session(tmp_path / "sung.puresignal")
    assert session_file.read(tmp_path / "sung.puresignal").session.takes == bench.session.takes
    assert len(texts(bench)) == 6


def test_a_marker_is_set_renamed_and_taken_away(bass, trio, qtbot):  # noqa: F811
    words, bench = bass.words, trio.workbench
    x = round(words.x_of_place(4))
    for text in ("brakes", "whistle"):
        qtbot.mouseClick(words, Qt.MouseButton.LeftButton, pos=QPoint(x, 12))
        assert words.editor.text() == ("" if text == "brakes" else "brakes")
        qtbot.keyClicks(words.editor, text)
        qtbot.keyClick(words.editor, Qt.Key.Key_Return)
    [(beat, name)] = bench.session.markers
    assert name == "whistle"
    assert texts(bench, "marker") == [(round(beat * bench.whole.take.tempo.ppq), "whistle")]
    before = words.grab().toImage()
    qtbot.mouseClick(words, Qt.MouseButton.LeftButton, pos=QPoint(x, 12))
    words.editor.clear()
    qtbot.keyClick(words.editor, Qt.Key.Key_Return)
    assert bench.session.markers == ()
    assert words.grab().toImage() != before


@pytest.mark.parametrize(
    ("text", "parts"),
    [
        ("Quar-ter past", ("Quar-", "ter ", "past")), ("  a  b ", ("a ", "b ")), ("", ()), ("one", ("one",)),
        ("o--o oh", ("o--", "o ", "oh")),
    ],
)  # fmt: skip
def test_a_text_is_parted_into_syllables(text, parts):
    assert syllables(text) == parts


def test_phrases_are_parted_by_rests_and_not_by_overlapping_notes():
    start, end = np.array([0.0, 1.0, 1.2, 4.0]), np.array([3.0, 1.1, 1.3, 4.5])
    assert phrases(start, end, 0.9).tolist() == [0, 0, 0, 1]
    assert phrases(start, end, 1.1).tolist() == [0, 0, 0, 0]
