"""Notes edited by pointer and keys in the real window; then the session and the bytes."""

from __future__ import annotations

import io

import mido
import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest

from puresignal.core.path.stage_description import Stage
from puresignal.core.session import session as edits
from puresignal.core.session.take_ref import DRAWN
from puresignal.core.session.track_settings import TrackSettings
from puresignal.core.touch.computer_keyboard import own_map
from puresignal.io import ports, session_file
from tests.ui.test_several_takes import trio  # noqa: F401 - fixture

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def takes(demo_window, qtbot):
    demo_window.activateWindow()
    qtbot.waitUntil(lambda: demo_window.workbench.shown is not None)
    view = demo_window.views["Takes"]
    view.timeline.setFocus()
    return view


def notes_of(takes):
    return takes._workbench.seen.outcome.output_notes


def a_note(takes, label="kick", number=3):
    """A clean note in view: its origin, and where it is in the viewport."""
    timeline = takes.timeline
    for group, row, top, height in timeline.row_layout.rows():
        if row.label == label or group.title.lower() == label:
            begin, end = timeline.axis.seconds_in_view()
            seen = np.flatnonzero((row.clean_start > begin + 0.5) & (row.clean_start < end - 1))
            i = int(seen[number])
            at = QPoint(round(timeline.axis.x_of(float(row.clean_start[i]))), round(top + height - 14))
            return int(row.clean_origin[i]), at, row
    raise AssertionError(label)


def drag(takes, at, by, modifier=Qt.KeyboardModifier.NoModifier):
    port = takes.timeline.viewport()
    QTest.mousePress(port, Qt.MouseButton.LeftButton, modifier, at)
    for part in (0.3, 0.7, 1.0):
        QTest.mouseMove(port, at + QPoint(round(by.x() * part), round(by.y() * part)))
        where = at + QPoint(round(by.x() * part), round(by.y() * part))
        event = QMouseEvent(
            QMouseEvent.Type.MouseMove, where, port.mapToGlobal(where), Qt.MouseButton.NoButton,
            Qt.MouseButton.LeftButton, modifier,
        )  # fmt: skip
        takes.timeline.mouseMoveEvent(event)
    QTest.mouseRelease(port, Qt.MouseButton.LeftButton, modifier, at + by)


def start_beat(takes, origin):
    notes, several = notes_of(takes), takes._workbench.seen.several
    return several.beat_of(float(notes.start[notes.origin == origin][0]))


def test_a_note_dragged_sideways_lands_on_the_line_and_undo_brings_it_back(takes, demo_window, qtbot):
    origin, at, _ = a_note(takes)
    before = start_beat(takes, origin)
    beat = takes.timeline.axis.scale * 60 / 92
    drag(takes, at, QPoint(round(0.52 * beat), 0))
    after = start_beat(takes, origin)
    assert after == pytest.approx(round((before + 0.52) * 4) / 4, abs=0.01)
    assert len(takes._workbench.session.take().edits) == 1
    demo_window.workbench.undo()
    assert start_beat(takes, origin) == pytest.approx(before, abs=1e-6)


def test_a_hit_dragged_to_another_row_becomes_that_drum_in_the_file(takes, demo_window, qtbot):
    origin, at, row = a_note(takes)
    target = next(box for group, label, box in takes.timeline.row_boxes() if label == "rim")
    drag(takes, at, QPoint(0, round(target.center().y()) - at.y()))
    shown = takes._workbench.seen
    notes = notes_of(takes)
    mine = notes.origin == origin
    assert shown.outcome.vocabulary[int(notes.articulation[mine][0])] == "snare.rim"
    rim = next(r for r in takes.timeline.rows() if r.articulation == "snare.rim")
    assert origin in rim.clean_origin
    file = mido.MidiFile(file=io.BytesIO(demo_window.workbench.midi_bytes()))
    counts = [
        sum(m.type == "note_on" and m.velocity > 0 for m in track) for track in file.tracks if track.name == "Kick"
    ]
    assert counts == [len(row.clean_origin) - 1]


def test_keys_nudge_transpose_shape_and_take_back(takes, qtbot):
    origin, _, _ = a_note(takes)
    takes.timeline.select(np.array([origin]))
    before = start_beat(takes, origin)
    velocity = float(notes_of(takes).velocity[notes_of(takes).origin == origin][0])
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Right, CTRL)
    assert start_beat(takes, origin) == pytest.approx(before + 0.25, abs=1e-3)
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Left, CTRL | SHIFT)
    assert start_beat(takes, origin) == pytest.approx(before + 0.25 - 0.001 * 92 / 60, abs=1e-3)
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Down, SHIFT)
    notes = notes_of(takes)
    assert notes.velocity[notes.origin == origin][0] == max(1, velocity - 4)
    assert "by hand" in takes.trace.story.text()
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Z, SHIFT)
    assert start_beat(takes, origin) == pytest.approx(before, abs=1e-6)
    assert len(takes._workbench.session.take().edits) == 0


def test_a_double_click_draws_and_delete_erases_what_was_drawn(takes, demo_window, qtbot):
    timeline, bench = takes.timeline, demo_window.workbench
    _, _, row = a_note(takes)
    before = len(row.clean_origin)
    box = next(box for group, label, box in timeline.row_boxes() if label == "kick")
    gap = float(row.clean_start[3] + row.clean_start[4]) / 2
    at = QPoint(round(timeline.axis.x_of(gap)), round(box.center().y()))
    QTest.mouseDClick(timeline.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    drawn = [one for one in bench.session.takes if one.kind == DRAWN]
    assert len(drawn) == 1
    assert len(drawn[0].drawn) == 1
    kick = next(r for r in timeline.rows() if r.articulation == "kick")
    assert len(kick.clean_origin) == before + 1
    assert drawn[0].drawn[0].beat * 4 == pytest.approx(round(drawn[0].drawn[0].beat * 4), abs=0.02)
    new = next(int(o) for o in kick.clean_origin if takes._shown.whose(np.array([o])).keys() == {drawn[0].ident})
    timeline.select(np.array([new]))
    qtbot.keyClick(timeline, Qt.Key.Key_Delete)
    assert len(bench.session.take(drawn[0].ident).drawn) == 0
    bench.undo()
    assert len(bench.session.take(drawn[0].ident).drawn) == 1


def test_copies_are_pasted_at_the_position_and_behind(takes, demo_window, qtbot):
    bench = demo_window.workbench
    origins = np.array([a_note(takes, number=n)[0] for n in (0, 1, 2)])
    takes.timeline.select(origins)
    count = len(notes_of(takes))
    qtbot.keyClick(takes.timeline, Qt.Key.Key_C, CTRL)
    demo_window.playback.go(demo_window.playback.second_of(120.0))
    qtbot.keyClick(takes.timeline, Qt.Key.Key_V, CTRL)
    assert len(notes_of(takes)) == count + 3
    drawn = next(one for one in bench.session.takes if one.kind == DRAWN)
    assert min(one.beat for one in drawn.drawn) == pytest.approx(120.0, abs=0.01)
    takes.timeline.select(origins)
    qtbot.keyClick(takes.timeline, Qt.Key.Key_D, CTRL)
    assert len(notes_of(takes)) == count + 6
    bench.undo()
    bench.undo()
    assert len(notes_of(takes)) == count


def test_a_locked_track_stays_as_it_is_and_the_player_is_told(takes, demo_window, qtbot):
    bench = demo_window.workbench
    bench.do("lock", edits.with_tracks(bench.session, [TrackSettings("kick", locked=True)]))
    origin, _, _ = a_note(takes)
    before = start_beat(takes, origin)
    told = []
    bench.message_shown.connect(lambda text, _: told.append(text))
    takes.timeline.select(np.array([origin]))
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Right, CTRL)
    assert start_beat(takes, origin) == before
    assert any("locked" in text for text in told)


def test_the_list_shows_exact_values_that_can_be_typed(takes, demo_window, qtbot):
    takes.tools.below["list"].trigger()
    listed = takes.list
    assert listed.isVisible()
    assert listed.model.rowCount() == len(np.unique(notes_of(takes).origin))
    origin, _, _ = a_note(takes)
    takes.timeline.select(np.array([origin]))
    row = listed.table.selectionModel().selectedRows()[0].row()
    assert listed.model.origin(row) == origin
    place = listed.model.index(row, 0)
    listed.model.setData(place, "6.3.240")
    assert start_beat(takes, origin) == pytest.approx(20 + 2 + 0.25, abs=2e-3)
    row = next(i for i in range(listed.model.rowCount()) if listed.model.origin(i) == origin)
    assert listed.model.data(listed.model.index(row, 0)) == "6.3.240"
    listed.model.setData(listed.model.index(row, 5), "77")
    assert notes_of(takes).velocity[notes_of(takes).origin == origin][0] == 77
    assert not listed.model.setData(listed.model.index(row, 5), "loud")
    listed.search.setText("snare")
    assert 0 < listed.model.rowCount() < 250
    assert all("snare" in listed.model.data(listed.model.index(i, 3)) for i in range(listed.model.rowCount()))
    listed.table.selectRow(0)
    assert takes.timeline.selected.tolist() == [listed.model.origin(0)]


def test_notes_are_selected_by_a_sentence(takes, qtbot):
    takes.ask_selection()
    dialog = takes.sentence.dialog
    dialog.what.setCurrentIndex(dialog.what.findData("snare"))
    dialog.measure.setCurrentIndex(dialog.measure.findData("softer than"))
    dialog.amount.setValue(60)
    qtbot.mouseClick(dialog.buttons["new"], Qt.MouseButton.LeftButton)
    shown = takes._shown
    notes = notes_of(takes)
    keys = [one.key for one in shown.outcome.tracks]
    soft = {
        int(o)
        for o, v, t in zip(notes.origin, notes.velocity, notes.track, strict=True)
        if keys[int(t)] == "snare" and v < 60
    }
    assert set(takes.timeline.selected.tolist()) == soft
    assert soft
    dialog.every.setValue(2)
    qtbot.mouseClick(dialog.buttons["within"], Qt.MouseButton.LeftButton)
    assert len(takes.timeline.selected) == (len(soft) + 1) // 2
    qtbot.mouseClick(dialog.invert, Qt.MouseButton.LeftButton)
    assert len(takes.timeline.selected) == len(np.unique(notes.origin)) - (len(soft) + 1) // 2


def choose_whom(takes, text):
    row = takes.path.whom.findText(text)
    assert row >= 0, [takes.path.whom.itemText(i) for i in range(takes.path.whom.count())]
    takes.path.whom.setCurrentIndex(row)
    takes.path.whom.activated.emit(row)


def test_a_sentence_kept_under_a_name_is_what_a_stage_is_set_for(takes, demo_window, qtbot, tmp_path):
    takes.ask_selection()
    dialog = takes.sentence.dialog
    dialog.what.setCurrentIndex(dialog.what.findData("snare"))
    dialog.every.setValue(2)
    qtbot.mouseClick(dialog.buttons["new"], Qt.MouseButton.LeftButton)
    wanted = set(takes.timeline.selected.tolist())
    dialog.names.setEditText("backbeat")
    qtbot.mouseClick(dialog.keep_sentence, Qt.MouseButton.LeftButton)
    before = dict(zip(notes_of(takes).origin.tolist(), notes_of(takes).velocity.tolist(), strict=True))
    qtbot.mouseClick(takes.path.boxes["vary"].box, Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
    choose_whom(takes, "backbeat")
    assert not takes.path.controls["vary", "seed"].isEnabled()
    takes.path.controls["vary", "amount"].slider.setValue(40)
    notes = notes_of(takes)
    moved = {o for o, v in zip(notes.origin.tolist(), notes.velocity.tolist(), strict=True) if v != before[o]}
    assert 0.9 * len(wanted) < len(moved) <= len(wanted)
    assert moved <= wanted
    choose_whom(takes, "everything")
    assert "1 selection differs" in takes.path.controls["vary", "amount"]._name.text()
    # It comes back with the session, and selects the same notes.
    path = tmp_path / "named.puresignal"
    bench = demo_window.workbench
    bench.save_session(path)
    opened = session_file.read(path)
    assert opened.session.selections == bench.session.selections
    assert opened.session.path == bench.session.path
    takes.timeline.select(np.zeros(0, np.int64))
    dialog.names.activated.emit(dialog.names.findText("backbeat"))
    assert set(takes.timeline.selected.tolist()) == wanted
    qtbot.mouseClick(dialog.forget, Qt.MouseButton.LeftButton)
    assert bench.session.selections == ()
    dialog.close()


def test_selected_notes_have_settings_of_their_own(takes, demo_window, qtbot):
    origin, _, _ = a_note(takes, "kick", 2)
    takes.timeline.select(np.array([origin]))
    qtbot.mouseClick(takes.path.boxes["probability"].box, Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
    choose_whom(takes, "selected: 1 note")
    count = len(notes_of(takes))
    takes.path.controls["probability", "chance"].slider.setValue(0)
    assert len(notes_of(takes)) == count - 1
    assert origin not in notes_of(takes).origin
    # Selected by hand, it is kept under a name and found again though it does not sound.
    demo_window.workbench.undo()
    assert origin in notes_of(takes).origin


def test_notes_are_chosen_by_the_stage_that_changed_them(takes, qtbot):
    takes.ask_selection()
    dialog = takes.sentence.dialog
    dialog.stage.setCurrentIndex(dialog.stage.findData("ends"))
    qtbot.mouseClick(dialog.buttons["new"], Qt.MouseButton.LeftButton)
    found = takes._shown.outcome.tally.touched_origins(Stage.named("ends"))
    assert len(takes.timeline.selected)
    assert set(takes.timeline.selected.tolist()) <= set(found.tolist())
    dialog.stage.setCurrentIndex(0)
    dialog.round.setValue(2)
    qtbot.mouseClick(dialog.buttons["new"], Qt.MouseButton.LeftButton)
    assert not len(takes.timeline.selected)
    dialog.close()


def test_velocities_are_drawn_over_the_selected_notes(takes, demo_window, qtbot):
    takes.tools.below["strip"].trigger()
    strip, timeline = takes.strip, takes.timeline
    origin, at, _ = a_note(takes)
    others = notes_of(takes).velocity.copy()
    timeline.select(np.array([origin]))
    qtbot.wait(20)
    x = at.x()
    QTest.mousePress(strip, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(x - 40, 20))
    where, left, none = QPoint(x + 40, 20), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    moved = QMouseEvent.Type.MouseMove
    strip.mouseMoveEvent(QMouseEvent(moved, where, strip.mapToGlobal(where), Qt.MouseButton.NoButton, left, none))
    QTest.mouseRelease(strip, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, where)
    notes = notes_of(takes)
    wanted = round(strip._velocity_at(20.0))
    assert notes.velocity[notes.origin == origin][0] == wanted
    assert (notes.velocity != others).sum() == 1
    demo_window.workbench.undo()
    assert (notes_of(takes).velocity == others).all()


def test_hits_are_entered_step_by_step(takes, demo_window, qtbot, monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    bench, services = demo_window.workbench, demo_window.services
    services.live_session.listen_to(ports.SCREEN_PADS, own_map())
    qtbot.waitUntil(lambda: bool(services.live_session.state), timeout=8000)
    demo_window.playback.go(demo_window.playback.second_of(8.0))
    takes.tools.steps.click()
    for name in ("kick", "snare.head"):
        before = demo_window.playback.place
        services.pads.strike(name, 90, 20)
        qtbot.waitUntil(lambda before=before: demo_window.playback.place > before, timeout=4000)
        qtbot.wait(120)
    takes.timeline.setFocus()
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Right)
    before = demo_window.playback.place
    services.pads.strike("kick", 80, 20)
    qtbot.waitUntil(lambda: demo_window.playback.place > before, timeout=4000)
    drawn = next(one for one in bench.session.takes if one.kind == DRAWN)
    assert [one.beat for one in drawn.drawn] == pytest.approx([8.0, 8.25, 8.75])
    pads = {pad.note: pad.articulation for pad in drawn.source.pads}
    assert [pads[one.note] for one in drawn.drawn] == ["kick", "snare.head", "kick"]
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Backspace)
    drawn = next(one for one in bench.session.takes if one.kind == DRAWN)
    assert len(drawn.drawn) == 2
    takes.tools.steps.click()
    services.live_session.close()


def bass(window, qtbot):
    """The sheet with the bass line alone, and the origins of its notes."""
    window.show_view("Takes")
    takes = window.takes
    ref = next(one for one in window.workbench.session.takes if one.name == "Bass line")
    window.workbench.do("choose", edits.with_current(window.workbench.session, ref.ident))
    takes.toggle_alone()
    qtbot.waitUntil(lambda: takes._workbench.seen.ref.ident == ref.ident, timeout=3000)
    notes = notes_of(takes)
    return takes, notes.origin[np.argsort(notes.start)]


def beats_of(takes, origins):
    notes, several = notes_of(takes), takes._workbench.seen.several
    rows = [int(np.flatnonzero(notes.origin == origin)[0]) for origin in origins]
    columns = zip(notes.start[rows].tolist(), notes.end[rows].tolist(), notes.note[rows].tolist(), strict=True)
    return [(several.beat_of(begin), several.beat_of(end), note) for begin, end, note in columns]


def test_a_note_is_split_and_joined_again(trio, qtbot):  # noqa: F811
    takes, origins = bass(trio, qtbot)
    demo_window = trio
    origin = int(origins[4])
    ((begin, end, pitch),) = beats_of(takes, [origin])
    before = demo_window.workbench.midi_bytes()
    count = len(notes_of(takes))
    takes.timeline.select(np.array([origin]))
    takes.timeline.setFocus()
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Y)
    bench = demo_window.workbench
    ((first, middle, same),) = beats_of(takes, [origin])
    assert (first, same) == (pytest.approx(begin, abs=1e-3), pitch)
    assert middle == pytest.approx((begin + end) / 2, abs=2e-3)
    takes.toggle_alone()
    qtbot.waitUntil(lambda: takes._workbench.seen.is_several, timeout=3000)
    several = takes._workbench.seen.several
    drawn = next(ref for ref in bench.session.takes if ref.kind == DRAWN)
    line = next(ref for ref in bench.session.takes if ref.name == "Bass line")
    whole = int(several.origins_of(line.ident, np.array([origin]))[0])
    (second,) = [o for o in notes_of(takes).origin.tolist() if several.is_of(drawn.ident, np.array([o]))[0]]
    ((start, stop, other),) = beats_of(takes, [second])
    assert (start, stop, other) == (pytest.approx(middle, abs=2e-3), pytest.approx(end, abs=2e-3), pitch)
    takes.timeline.select(np.array([whole, second]))
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Y, SHIFT)
    ((again, until, _),) = beats_of(takes, [whole])
    assert (again, until) == (pytest.approx(begin, abs=2e-3), pytest.approx(end, abs=4e-3))
    bench.undo()
    bench.undo()
    assert bench.midi_bytes() == before
    assert count == len(origins)


def test_a_hit_is_called_what_it_was(takes, demo_window):
    origin, _, row = a_note(takes, "head")
    assert row.articulation == "snare.head"
    takes.timeline.select(np.array([origin]))
    (was,) = [a.menu() for a in takes.menu().actions() if a.text() == "This was…"]
    next(action for action in was.actions() if action.text() == "snare, rim").trigger()
    notes, outcome = notes_of(takes), takes._workbench.seen.outcome
    assert outcome.vocabulary[int(notes.articulation[notes.origin == origin][0])] == "snare.rim"
    demo_window.workbench.undo()
    notes = notes_of(takes)
    assert outcome.vocabulary[int(notes.articulation[notes.origin == origin][0])] == "snare.head"


def test_a_clicked_note_is_heard_from_its_beginning_to_its_end_where_that_is_wanted(takes, demo_window, monkeypatch):
    heard = []
    monkeypatch.setattr(demo_window.playback, "hear", lambda begin, end: heard.append((begin, end)))
    origin, at, _ = a_note(takes)
    QTest.mouseClick(takes.timeline.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    assert not heard
    takes.toggle_click_hear()
    origin, at, _ = a_note(takes, number=4)
    QTest.mouseClick(takes.timeline.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    notes = notes_of(takes)
    ((begin, end),) = heard
    assert begin == float(notes.start[notes.origin == origin][0])
    assert end >= begin + 0.1


def drag_in_strip(strip, x, y, wide=40):
    none, left = Qt.KeyboardModifier.NoModifier, Qt.MouseButton.LeftButton
    QTest.mousePress(strip, left, none, QPoint(x - wide, y))
    where = QPoint(x + wide, y)
    moved = QMouseEvent(
        QMouseEvent.Type.MouseMove, where, strip.mapToGlobal(where), Qt.MouseButton.NoButton, left, none
    )
    strip.mouseMoveEvent(moved)
    QTest.mouseRelease(strip, left, none, where)


def test_probabilities_are_drawn_note_by_note_and_what_is_left_out_stays_in_the_strip(takes, demo_window, qtbot):
    takes.tools.below["strip"].trigger()
    strip, bench = takes.strip, demo_window.workbench
    strip.choice.setCurrentIndex(1)
    strip.choice.activated.emit(1)
    origin, at, _ = a_note(takes)
    takes.timeline.select(np.array([origin]))
    qtbot.wait(20)
    count = len(notes_of(takes))
    drag_in_strip(strip, at.x(), strip.height() - 2)
    assert origin not in notes_of(takes).origin
    assert len(notes_of(takes)) == count - 1
    ref = bench.session.take()
    assert bench.session.path.probability.chance.notes == ((((ref.number << 32) + origin,), 0.0),)
    # It is still there to be drawn higher.
    assert origin in strip._origin
    drag_in_strip(strip, at.x(), 4)
    assert origin in notes_of(takes).origin
    assert demo_window.menus.undo.text() == "Undo: probability of 1 note"


def test_edits_of_notes_that_do_not_leave_are_told_selected_and_forgotten(takes, demo_window, qtbot):
    origin, _, _ = a_note(takes)
    timeline, bench = takes.timeline, demo_window.workbench
    timeline.select(np.array([origin]))
    qtbot.keyClick(timeline, Qt.Key.Key_Right, CTRL)
    timeline.select(np.array([origin]))
    takes.act("remove")
    assert origin not in notes_of(takes).origin
    panel = takes.path
    assert panel.orphans.text() == "1 edited note does not leave: a stage or you removed it."
    assert panel.orphans.isVisible()
    timeline.select(np.zeros(0, np.int64))
    qtbot.mouseClick(panel.show_orphans, Qt.MouseButton.LeftButton)
    assert timeline.selected.tolist() == [origin]
    qtbot.mouseClick(panel.forget_orphans, Qt.MouseButton.LeftButton)
    assert not len(bench.session.take().edits)
    assert not panel.orphans.isVisible()


def test_rows_say_their_step_in_the_key_on_request(trio, qtbot):  # noqa: F811
    takes, _ = bass(trio, qtbot)
    bench = trio.workbench
    bench.do("", edits.with_key(bench.session, "D minor"))
    assert "A2" in {row.label for row in takes.timeline.row_layout.picture.rows}
    takes.tools.degrees.setChecked(True)
    assert {"A2  5", "D2  1"} <= {row.label for row in takes.timeline.row_layout.picture.rows}


def test_the_pads_below_the_rows_are_played_while_looking_at_them(takes, demo_window, qtbot, monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    takes.toggle_face()
    face = takes._face
    assert face.isVisible()
    heard = []
    demo_window.live_session.messages_received.connect(heard.extend)
    box = face.pads.boxes()["snare.head"].center().toPoint()
    qtbot.waitUntil(lambda: demo_window.live_session.listening, timeout=8000)
    qtbot.mouseClick(face.pads, Qt.MouseButton.LeftButton, pos=box)
    qtbot.waitUntil(lambda: any(r.data[0] & 0xF0 == 0x90 for r in heard), timeout=6000)
    takes.toggle_face()
    assert not face.isVisible()
    demo_window.live_session.close()


def test_notes_go_a_tick_an_octave_as_a_copy_and_to_another_track(trio, qtbot):  # noqa: F811
    takes, origins = bass(trio, qtbot)
    bench, timeline = trio.workbench, takes.timeline
    origin = int(origins[4])
    ((begin, _, pitch),) = beats_of(takes, [origin])
    timeline.select(np.array([origin]))
    timeline.setFocus()
    alt = CTRL | Qt.KeyboardModifier.AltModifier
    for _ in range(3):
        qtbot.keyClick(timeline, Qt.Key.Key_Right, alt)
    ((moved, _, _),) = beats_of(takes, [origin])
    assert moved - begin == pytest.approx(3 / takes._shown.take.tempo.ppq, abs=1e-4)
    bench.undo()
    assert beats_of(takes, [origin])[0][0] == pytest.approx(begin, abs=1e-6)
    takes.toggle_alone()
    count = len(notes_of(takes))
    origin = int(takes._shown.several.origins_of(bench.session.current, np.array([0]))[0])
    timeline.select(np.array([origin]))
    qtbot.keyClick(timeline, Qt.Key.Key_Up, alt)
    drawn = [ref for ref in bench.session.takes if ref.kind == DRAWN]
    assert len(notes_of(takes)) == count + 1
    pitch = int(notes_of(takes).note[notes_of(takes).origin == origin][0])
    assert drawn[0].drawn[0].note == pitch + 12
    timeline.select(np.array([origin]))
    menu = takes.menu()
    [to] = [action for action in menu.actions() if action.text() == "To track"]
    [kick] = [action for action in to.menu().actions() if action.text() == "Kick"]
    kick.trigger()
    notes = notes_of(takes)
    assert takes._shown.outcome.tracks[int(notes.track[notes.origin == origin][0])].key == "kick"
    song = mido.MidiFile(file=io.BytesIO(bench.midi_bytes()))
    [track] = [one for one in song.tracks if one.name == "Kick"]
    assert any(m.type == "note_on" and m.note == pitch and m.velocity for m in track)
