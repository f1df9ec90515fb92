"""The drawing area of Takes: tracks with their rows over bars and beats, and the overview below."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QPushButton, QToolTip, QWidget

from puresignal.core.analysis.grid_picture import GridPicture
from puresignal.core.export.session_result import SeveralTakes
from puresignal.core.midi.columns import distinct
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.touch import pad_velocity
from puresignal.translation import tr
from puresignal.ui.state.take_tempo import BeatLines
from puresignal.ui.takes import bar_ruler, timeline_keys
from puresignal.ui.takes.bar_ruler import HANDLES, MARKS, RULER
from puresignal.ui.takes.beat_lines import BeatPainter
from puresignal.ui.takes.choice_row import HEIGHT as CHOICE_ROW
from puresignal.ui.takes.choice_row import ChoiceRow, Choices
from puresignal.ui.takes.note_drag import NoteDrag
from puresignal.ui.takes.overview import OVERVIEW, Overview
from puresignal.ui.takes.row_labels import GUTTER, NAMES, PAD
from puresignal.ui.takes.row_layout import RowLayout
from puresignal.ui.takes.section_row import HEIGHT as SECTION_ROW
from puresignal.ui.takes.section_row import Bracket, SectionRow
from puresignal.ui.takes.sheet_painter import SheetPainter
from puresignal.ui.takes.time_axis import TimeAxis
from puresignal.ui.takes.time_strip import BEGIN, END, MOVE, TimeStrip
from puresignal.ui.takes.timeline_rows import Picture, Row
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.plain_text import plain_tip

GLOW_MS = 140
BEAT = "beat"


class PlayLine(QWidget):
    """The position line: a widget of its own, so that only what it uncovers is repainted."""

    def __init__(self, parent: QWidget):
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hide()

    def paintEvent(self, event: QPaintEvent) -> None:
        QPainter(self).fillRect(self.rect(), theme.current().colour("accent"))


class Timeline(QAbstractScrollArea):
    """Draws the rows of a take. The wheel scrolls; Ctrl and wheel zooms around the pointer.

    Clicking or dragging over the sheet, or clicking the name of a row or track, selects notes; Shift and Ctrl add.
    Dragging on the ruler selects a time range.

    axis        seconds from left to right; row_layout: the rows from above; sheet: paints them

    hovered              origin of the note under the pointer, -1 for none
    description_changed  what is under the pointer, in words
    chosen               the selection changed: its origins
    range_selected       another time range: (begin, end) in seconds, or None
    action_requested     a key was pressed: "remove", "keep", "next_doubtful" ...
    menu_requested       a context menu, at a global point
    seek_requested       move playback to a second
    pad_played           the pad beside a row was hit: (articulation, velocity)
    grip_dragged         the chosen take's handle is dragged: (what, seconds from where the drag began, the second now)
    grip_released        the drag is over
    mark_pressed         a change of tempo or meter was pressed: the mark, at a global point
    ruler_menu_requested a context menu of the ruler: (second, global point)
    beat_dragged         a line of the take's beats is dragged: (its number, the second now)
    beat_released        the drag is over
    beat_menu_requested  a context menu of such a line: (its number, global point)
    notes_dragged        the selected notes were dragged: a Moved of note_drag.py
    draw_requested       a note should be drawn: (row, second, velocity)
    edit_requested       a key edits the selected notes: one of EDITS of timeline_keys.py
    painted              it was painted anew, since time or notes have moved
    """

    hovered = Signal(int)
    description_changed = Signal(str)
    chosen = Signal(object)
    range_selected = Signal(object)
    action_requested = Signal(str)
    menu_requested = Signal(QPoint)
    seek_requested = Signal(float)
    pad_played = Signal(str, int)
    grip_dragged = Signal(str, float, float)
    grip_released = Signal()
    mark_pressed = Signal(object, QPoint)
    ruler_menu_requested = Signal(float, QPoint)
    beat_dragged = Signal(int, float)
    beat_released = Signal()
    beat_menu_requested = Signal(int, QPoint)
    notes_dragged = Signal(object)
    draw_requested = Signal(object, float, int)
    edit_requested = Signal(str)
    painted = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(tr("Notes of the take"))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.viewport().setMouseTracking(True)
        self.verticalScrollBar().setAccessibleName(tr("Scroll the tracks"))
        self.axis = TimeAxis(lambda: self.viewport().width() - GUTTER)
        self.row_layout = RowLayout()
        self.sheet = SheetPainter(self.row_layout, self.axis)
        self.selected = np.zeros(0, np.int64)
        self._is_selected = np.zeros(0, bool)
        self._overview = Overview(GUTTER)
        self.strip = TimeStrip()
        self.beats = BeatPainter()
        self.stretch: tuple[float, float] | None = None
        self._sweep: tuple[QPointF, QPointF, np.ndarray] | None = None
        self._drag: tuple[str, float, float] | None = None
        self._describe: Callable[[int], str] = lambda origin: ""
        self._bars_before = 0
        self.verticalScrollBar().valueChanged.connect(self._scroll)
        self._note_drag: NoteDrag | None = None
        self._pressed = -1
        # Whether notes are entered step by step.
        self.stepping = False
        self.line = PlayLine(self.viewport())
        self._line_at = 0.0
        self._zooms: list[QPushButton] = []
        self._under: QWidget | None = None
        self._under_tall = 0
        self.sections = SectionRow(self.axis, self.viewport())
        self.choices = ChoiceRow(self.axis, self.viewport())
        self._place_rows()

    @property
    def _top(self) -> int:
        """Pixels above the rows."""
        return self._under_top + self._under_tall

    @property
    def _under_top(self) -> int:
        return RULER + self._sections_tall + (CHOICE_ROW if self.choices.choices is not None else 0)

    @property
    def _sections_tall(self) -> int:
        return SECTION_ROW if self.sections.brackets else 0

    def show_sections(self, brackets: tuple[Bracket, ...], several: SeveralTakes | None) -> None:
        """Show sections under the ruler, or no such row."""
        if self.sections.show_brackets(brackets, several):
            self._place_rows()
            self._arrange()

    def _place_rows(self) -> None:
        """The rows under the ruler, one below the other."""
        width = self.viewport().width()
        self.sections.setGeometry(0, RULER, width, SECTION_ROW)
        self.choices.setGeometry(0, RULER + self._sections_tall, width, CHOICE_ROW)
        if self._under is not None:
            self._under.setGeometry(0, self._under_top, width, self._under_tall)

    def put_under_ruler(self, strip: QWidget) -> None:
        """Give it a strip that stands between the ruler and the rows; it is shown by its height."""
        self._under = strip
        strip.setParent(self.viewport())
        strip.hide()

    def show_under_ruler(self, tall: int) -> None:
        """Show the strip under the ruler so many pixels high; 0: not at all."""
        if self._under is not None and tall != self._under_tall:
            self._under_tall = tall
            self._under.setVisible(tall > 0)
            self._place_rows()
            self._arrange()

    def show_choices(self, choices: Choices | None) -> None:
        """Show which take is used in each bar, or no such row."""
        if self.choices.show_choices(choices):
            self._place_rows()
            self._arrange()

    def add_zoom(self, button: QPushButton) -> None:
        """A button in the overview's gutter, right of those before it."""
        button.setParent(self.viewport())
        button.setCursor(Qt.CursorShape.ArrowCursor)
        self._zooms.append(button)
        self._place_zooms()

    def _place_zooms(self) -> None:
        right = GUTTER - PAD
        for button in reversed(self._zooms):
            width = max(26, button.sizeHint().width())
            right -= width + 3
            button.setGeometry(right, self.viewport().height() - OVERVIEW + 10, width, OVERVIEW - 20)

    # Position

    def set_line(self, second: float, follow: bool) -> None:
        """Move the position line. follow: turn the page when it leaves the view."""
        self._line_at = second
        if follow and self.axis.turn_page(second):
            self.viewport().update()
        self._place_line()

    def _place_line(self) -> None:
        x = round(self.axis.x_of(self._line_at))
        seen = GUTTER <= x < self.viewport().width()
        self.line.setVisible(seen)
        if seen:
            self.line.setGeometry(x, MARKS - 10, 2, max(1, self.viewport().height() - MARKS - OVERVIEW + 10))

    # Contents

    def show_picture(
        self,
        picture: Picture,
        tempo: TempoMap,
        fit: bool,
        stands_out: Callable[[np.ndarray], np.ndarray] | None = None,
        bars_before: int = 0,
    ) -> None:
        """Show rows; `fit` starts at the beginning with a few bars in view.

        stands_out   tells of (n,) origins which are not pale; None: none is pale
        bars_before  bars of the tempo map before bar 1
        """
        self.row_layout.show_picture(picture)
        self.sheet.tempo, self._bars_before = tempo, bars_before
        self.sheet.let_stand_out(stands_out)
        self.axis.length = picture.length
        self._flag_selected()
        if fit:
            first = min((float(row.start[0]) for row in picture.rows if len(row.start)), default=0.0)
            bar = tempo.bar_start(max(1, tempo.position(first)[0]))
            first = float(tempo.ticks_to_seconds(np.array([bar]))[0])
            bars = tempo.beats_to_seconds(tempo.seconds_to_beats(np.array([first])) + 16)[0] - first
            self.axis.show(first, bars)
        self._arrange()

    def set_show(self, show: str) -> None:
        """ "played", "clean" or "both"."""
        self.row_layout.show = show
        self.viewport().update()

    def select(self, origins: np.ndarray, tell: bool = True) -> None:
        """Select notes by their origins."""
        self.selected = distinct(np.asarray(origins, np.int64))
        self._flag_selected()
        self.viewport().update()
        if tell:
            self.chosen.emit(self.selected)

    def _flag_selected(self) -> None:
        """A look-up by origin, so that painting checks each visible note once."""
        columns = [one for row in self.rows() for one in (row.origin, row.clean_origin) if len(one)]
        most = max((int(one.max()) for one in columns), default=-1)
        flags = np.zeros(max(most, int(self.selected.max(initial=-1))) + 1, bool)
        flags[self.selected] = True
        self._is_selected = flags

    def own_tap_key(self, own: bool) -> None:
        """Whether T taps beats here, instead of what it does elsewhere in the window."""
        self.OWN_KEYS: tuple[Qt.Key, ...] = (Qt.Key.Key_T,) if own else ()

    def show_beats(self, lines: BeatLines | None) -> None:
        """Show the beats of the chosen take in place of its handle, or none."""
        if lines is not self.beats.lines:
            self.beats.lines = lines
            self.viewport().update()

    def show_grid(self, grid: GridPicture | None) -> None:
        """Show the lines that notes are pulled to, and those between two of them; None: the usual lines."""
        if grid is not self.sheet.grid:
            self.sheet.grid = grid
            self.viewport().update()

    def show_stretch(self, stretch: tuple[float, float] | None) -> None:
        """Show a time range that was selected elsewhere."""
        if stretch != self.stretch:
            self.stretch = stretch
            self.viewport().update()

    def set_stretch(self, stretch: tuple[float, float] | None) -> None:
        """Select a time range, or none."""
        self.stretch = stretch
        self.viewport().update()
        self.range_selected.emit(stretch)

    def set_describe(self, describe: Callable[[int], str]) -> None:
        """Set the function that describes a note by its origin."""
        self._describe = describe

    # Geometry

    def row_boxes(self) -> list[tuple[str, str, QRectF]]:
        """(track, row label, box in the viewport) of each row, for tests and accessibility."""
        return [
            (placed.group.title, placed.row.label, QRectF(GUTTER, placed.top, self.axis.width, placed.height))
            for placed in self.row_layout.rows()
        ]

    def rows(self) -> tuple[Row, ...]:
        """The rows, from above."""
        return self.row_layout.picture.rows

    def _scroll(self, to: int) -> None:
        self.row_layout.scrolled = to
        self.viewport().update()

    def _arrange(self) -> None:
        room = self.viewport().height() - self._top - OVERVIEW
        self.row_layout.first = self._top
        self.row_layout.fit(room)
        bar = self.verticalScrollBar()
        bar.setRange(0, max(0, round(self.row_layout.total - room)))
        bar.setPageStep(max(1, room))
        bar.setSingleStep(24)
        self.axis.hold()
        self.viewport().update()

    # Moving

    def zoom(self, factor: float, about: float | None = None) -> None:
        """Zoom around a pixel, by default the middle."""
        self.axis.zoom(factor, about)
        self.viewport().update()

    def show_all(self) -> None:
        """Show the whole take."""
        self.axis.show_all()
        self.viewport().update()

    def move_by(self, seconds: float) -> None:
        self.axis.move_by(seconds)
        self.viewport().update()

    def bring_row_into_view(self, origin: int) -> None:
        """Scroll to the row of a note."""
        for _, row, top, height in self.row_layout.rows():
            if origin in row.origin:
                bottom = self.viewport().height() - OVERVIEW
                bar = self.verticalScrollBar()
                if top < self._top:
                    bar.setValue(round(bar.value() + top - self._top))
                elif top + height > bottom:
                    bar.setValue(round(bar.value() + top + height - bottom + 4))
                return

    def bring_into_view(self, second: float) -> None:
        """Scroll so that a second is visible, if it is not."""
        self.axis.bring_into_view(second)
        self.viewport().update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._place_zooms()
        self._place_rows()
        self._arrange()

    def wheelEvent(self, event: QWheelEvent) -> None:
        turned = event.angleDelta()
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom(1.2 ** (turned.y() / 120), event.position().x())
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier or abs(turned.x()) > abs(turned.y()):
            begin, end = self.axis.seconds_in_view()
            steps = turned.x() or turned.y()
            self.move_by(-steps / 120 * 0.1 * (end - begin))
        else:
            bar = self.verticalScrollBar()
            bar.setValue(bar.value() - round(turned.y() / 120 * 48))
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        begin, end = self.axis.seconds_in_view()
        key = event.key()
        bar = self.verticalScrollBar()
        edit, action = self._edit_of(event), timeline_keys.action_of(event)
        if edit:
            self.edit_requested.emit(edit)
        elif key in timeline_keys.MOVES:
            self.move_by(timeline_keys.MOVES[Qt.Key(key)] * (end - begin))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(1.4)
        elif key == Qt.Key.Key_Minus:
            self.zoom(1 / 1.4)
        elif key == Qt.Key.Key_0:
            self.show_all()
        elif key == Qt.Key.Key_Home:
            self.move_by(-self.axis.begin)
        elif key == Qt.Key.Key_End:
            self.move_by(self.axis.length)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            bar.setValue(bar.value() + (30 if key == Qt.Key.Key_Down else -30))
        elif key == Qt.Key.Key_Escape:
            self.select(np.zeros(0, np.int64))
            self.set_stretch(None)
        elif key == Qt.Key.Key_A and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.select(np.concatenate([np.zeros(0, np.int64), *(self.row_layout.seen(r).origin for r in self.rows())]))
        elif action:
            self.action_requested.emit(action)
        else:
            super().keyPressEvent(event)

    def _edit_of(self, event: QKeyEvent) -> str:
        return timeline_keys.edit_of(event, len(self.selected) > 0, self.stepping)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and self._edit_of(event):
            # With notes selected these keys are theirs, and not the window's.
            event.accept()
            return True
        return super().event(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if event.button() == Qt.MouseButton.MiddleButton:
            self._drag = ("pan", at.x(), self.axis.begin)
        if event.button() != Qt.MouseButton.LeftButton:
            return
        more = bool(event.modifiers() & (Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier))
        if at.y() >= self.viewport().height() - OVERVIEW:
            if at.x() >= GUTTER:
                self._drag = ("overview", 0.0, 0.0)
                self._go_to_overview(at.x())
        elif at.y() < RULER and at.x() >= GUTTER and self._press_strip(at, event.globalPosition().toPoint()):
            pass
        elif at.y() < RULER:
            if at.x() >= GUTTER and at.y() < HANDLES:
                self._drag = ("stretch", self._on_beat(self.axis.second_at(at.x())), 0.0)
        elif at.x() >= GUTTER - PAD and at.x() < GUTTER and self._strike(at):
            pass
        elif at.x() < GUTTER:
            self._choose(self._named_at(at), more)
        else:
            origin = self.note_at(at)
            if origin >= 0:
                self._press_note(at, origin, more, event.modifiers())
            else:
                self._sweep = (at, at, self.selected if more else np.zeros(0, np.int64))
                if not more:
                    self.select(np.zeros(0, np.int64))

    def _press_note(self, at: QPointF, origin: int, more: bool, modifiers: Qt.KeyboardModifier) -> None:
        """Choose a note; the chosen ones can be dragged from here."""
        if origin not in self.selected or more:
            self._choose(np.array([origin]), more)
        else:
            # Which of several is meant is told by whether they are dragged.
            self._pressed = origin
        placed = self.row_layout.at(at.y())
        if placed is not None and origin in self.selected:
            seen = self.row_layout.seen(placed.row)
            start = float(seen.start[np.flatnonzero(seen.origin == origin)[0]])
            self._note_drag = NoteDrag(at, placed.row, start, bool(modifiers & Qt.KeyboardModifier.ControlModifier))

    def _drag_notes(self, event: QMouseEvent) -> None:
        assert self._note_drag is not None
        at = event.position()
        snaps = not event.modifiers() & Qt.KeyboardModifier.AltModifier
        to = self.row_layout.at(at.y())
        self._note_drag.move(at, self.axis.scale, None if to is None else to.row, self._snap_lines(), snaps)
        if self._note_drag.is_on:
            self.viewport().setCursor(Qt.CursorShape.ClosedHandCursor)
            self.viewport().update()

    def _snap_lines(self) -> np.ndarray:
        """The lines that notes are pulled to, or else the sixteenths around what is in view."""
        lines = self.sheet.grid_lines()
        if lines is not None:
            return lines
        begin, end = self.axis.seconds_in_view()
        return self.sheet.tempo.grid(max(0.0, begin - 4), end + 4, 4)[0]

    def _press_strip(self, at: QPointF, where: QPoint) -> bool:
        """Take hold of the chosen take's handle, or press a mark. Returns whether there was one."""
        place = self.axis.place
        if self.beats.lines is not None and at.y() >= HANDLES:
            self.beats.held = self.beats.line_at(at, place, self.viewport().width())
            if self.beats.held >= 0:
                self._drag = (BEAT, self.axis.second_at(at.x()), 0.0)
            return True
        grip, mark = self.strip.grip_at(at, *place), self.strip.mark_at(at, *place)
        if grip is not None:
            self._drag = (grip, self.axis.second_at(at.x()), 0.0)
        elif mark is not None:
            self.mark_pressed.emit(mark, where)
        return grip is not None or mark is not None

    def _strike(self, at: QPointF) -> bool:
        """Play the pad beside a row: harder the higher it is hit. Returns whether there was one."""
        placed = self.row_layout.at(at.y())
        if placed is None or placed.row.articulation is None:
            return False
        part = (at.y() - placed.top) / placed.height * 2 - 1
        self.pad_played.emit(placed.row.articulation, pad_velocity.velocity(0.0, max(0.0, 0.5 + 0.5 * part)))
        self.sheet.glowing = placed.row.articulation
        QTimer.singleShot(GLOW_MS, self._fade)
        self.viewport().update()
        return True

    def _fade(self) -> None:
        self.sheet.glowing = None
        self.viewport().update()

    def _choose(self, origins: np.ndarray, more: bool) -> None:
        """Select notes; with `more`, add them, or remove them if all are selected already."""
        if not more:
            self.select(origins)
        elif len(origins) and np.isin(origins, self.selected).all():
            self.select(self.selected[~np.isin(self.selected, origins)])
        else:
            self.select(np.union1d(self.selected, origins))

    def _named_at(self, at: QPointF) -> np.ndarray:
        """All notes of the row or track whose name is at a point."""
        placed = self.row_layout.at(at.y())
        if placed is None:
            return np.zeros(0, np.int64)
        rows = placed.group.rows if at.x() < NAMES else (placed.row,)
        return np.concatenate([row.origin for row in rows])

    def _on_beat(self, second: float) -> float:
        """The beat nearest to a second."""
        beat = float(self.sheet.tempo.seconds_to_beats(np.array([max(0.0, second)]))[0])
        return float(self.sheet.tempo.beats_to_seconds(np.array([round(beat)]))[0])

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if self._note_drag is not None:
            self._drag_notes(event)
            return
        if self._sweep is not None:
            self._sweep = (self._sweep[0], at, self._sweep[2])
            swept = self.row_layout.inside(QRectF(self._sweep[0], at).normalized(), self.axis)
            self.select(np.union1d(self._sweep[2], swept), tell=False)
            return
        if self._drag is None:
            grip = self.strip.grip_at(at, *self.axis.place) if at.y() < RULER else None
            if self.beats.lines is not None:
                held = self.beats.line_at(at, self.axis.place, self.viewport().width())
                grip = BEAT if held >= 0 else None
            shapes = {MOVE: Qt.CursorShape.OpenHandCursor, BEGIN: Qt.CursorShape.SizeHorCursor}
            shape = Qt.CursorShape.ArrowCursor if grip is None else shapes.get(grip, Qt.CursorShape.SizeHorCursor)
            self.viewport().setCursor(shape)
            self.hovered.emit(self.note_at(at))
            self.description_changed.emit(self.words_at(at))
            return
        kind, x, begin = self._drag
        if kind == "overview":
            self._go_to_overview(at.x())
        elif kind == BEAT:
            self.beat_dragged.emit(self.beats.held, self.axis.second_at(at.x()))
        elif kind in (MOVE, BEGIN, END):
            now = self.axis.second_at(at.x())
            self.grip_dragged.emit(kind, now - x, now)
        elif kind == "stretch":
            other = self._on_beat(self.axis.second_at(max(float(GUTTER), at.x())))
            self.set_stretch((min(x, other), max(x, other)) if other != x else None)
        else:
            self.axis.begin = begin - (at.x() - x) / self.axis.scale
            self.axis.hold()
            self.viewport().update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        inside = at.x() >= GUTTER and self._top <= at.y() < self.viewport().height() - OVERVIEW
        placed = self.row_layout.at(at.y()) if inside else None
        if placed is None or self.note_at(at) >= 0 or event.button() != Qt.MouseButton.LeftButton:
            self.mousePressEvent(event)
            return
        high = 1 - (at.y() - placed.top) / placed.height
        velocity = int(np.clip(127 * high * 1.15, 1, 127)) if not placed.row.pitched else 90
        second = self.axis.second_at(at.x())
        if not event.modifiers() & Qt.KeyboardModifier.AltModifier:
            lines = self._snap_lines()
            second = float(lines[np.argmin(np.abs(lines - second))]) if len(lines) else second
        self.draw_requested.emit(placed.row, second, velocity)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._note_drag is not None:
            drag, pressed = self._note_drag, self._pressed
            self._note_drag, self._pressed = None, -1
            dropped = drag.moved()
            self.viewport().setCursor(Qt.CursorShape.ArrowCursor)
            if dropped is not None:
                self.notes_dragged.emit(dropped)
            elif not drag.is_on and pressed >= 0:
                self._choose(np.array([pressed]), False)
            self.viewport().update()
            return
        if self._sweep is not None:
            self._sweep = None
            self.select(self.selected)
        elif self._drag is not None and self._drag[0] == "stretch" and event.position().y() < RULER:
            moved = self._on_beat(self.axis.second_at(event.position().x())) != self._drag[1]
            self.set_stretch(self.stretch if moved else None)
            if not moved:
                self.seek_requested.emit(max(0.0, self.axis.second_at(event.position().x())))
        if self._drag is not None and self._drag[0] in (MOVE, BEGIN, END):
            self.grip_released.emit()
        elif self._drag is not None and self._drag[0] == BEAT:
            self.beats.held = -1
            self.beat_released.emit()
            self.viewport().update()
        self._drag = None

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if event.pos().y() < RULER:
            at = QPointF(event.pos())
            beat = self.beats.line_at(at, self.axis.place, self.viewport().width())
            if beat >= 0:
                self.beat_menu_requested.emit(beat, event.globalPos())
            elif event.pos().x() >= GUTTER:
                self.ruler_menu_requested.emit(self.axis.second_at(event.pos().x()), event.globalPos())
            return
        origin = self.note_at(QPointF(event.pos()))
        if origin >= 0 and origin not in self.selected:
            self.select(np.array([origin]))
        self.menu_requested.emit(event.globalPos())

    def _go_to_overview(self, x: float) -> None:
        self.axis.centre(self._overview.second_at(x, self.row_layout.picture, round(self.axis.width)))
        self.viewport().update()

    # Descriptions

    def note_at(self, at: QPointF) -> int:
        """Origin of the note within five pixels of a point, -1 for none."""
        if at.x() < GUTTER or not self._top <= at.y() < self.viewport().height() - OVERVIEW:
            return -1
        return self.row_layout.note_near(at.y(), self.axis.second_at(at.x()), self.axis.scale)

    def words_at(self, at: QPointF) -> str:
        """Description of the note, row or position at a point."""
        origin = self.note_at(at)
        if origin >= 0:
            return self._describe(origin)
        if at.y() >= self.viewport().height() - OVERVIEW:
            return tr("everything: drag to move through it")
        bar, beat, _ = self.sheet.tempo.position(max(0.0, self.axis.second_at(at.x())))
        moment = tr("bar {bar}, beat {beat}").format(bar=bar - self._bars_before, beat=beat)
        if HANDLES <= at.y() < RULER and self.beats.lines is not None:
            return tr("the beats of the take: drag a line to where it belongs, and what follows moves along")
        if HANDLES <= at.y() < RULER and self.strip.handle is not None:
            return tr("the chosen take: drag it to move it, its ends to crop it (Alt: not to the beat)")
        if at.y() < RULER:
            return tr("{moment}: drag to select a time range").format(moment=moment)
        placed = self.row_layout.at(at.y())
        if placed is None:
            return moment
        group, row = placed.group, placed.row
        where = group.title if row.label == group.title.lower() else f"{group.title}, {row.label}"
        if at.x() < GUTTER:
            return tr("{where}: {n} hits, click to select them").format(where=where, n=len(row.start))
        return f"{where} · {moment}"

    def viewportEvent(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            self._say(event.pos(), event.globalPos())
            return True
        return super().viewportEvent(event)

    def _say(self, at: QPoint, where: QPoint) -> None:
        text = self.words_at(QPointF(at))
        QToolTip.showText(where, plain_tip(text), self.viewport())

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        self._place_line()
        self.painted.emit()
        self.choices.stretch = self.stretch
        self.choices.update()
        self.sections.update()
        painter = QPainter(self.viewport())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        current = theme.current()
        size = self.viewport().size()
        painter.fillRect(self.viewport().rect(), current.colour("sheet"))
        body = QRectF(0, self._top, size.width(), size.height() - self._top - OVERVIEW)
        painter.save()
        painter.setClipRect(body)
        found = self.sheet.lines_in_view()
        selected = self._is_selected if len(self.selected) else np.zeros(0, bool)
        self.sheet.paint(painter, body, found, self.stretch, selected)
        self.beats.paint_body(painter, body, self.axis.place)
        self._paint_sweep(painter)
        if self._note_drag is not None and self._note_drag.is_on:
            painter.setClipRect(body.adjusted(GUTTER, 0, 0, 0))
            boxes = self.row_layout.boxes_of(self._is_selected, self.axis)
            self._note_drag.paint(painter, boxes, self.axis.scale, current.colour("ink"))
        painter.restore()
        bar_ruler.paint_ruler(
            painter, size.width(), tr("bar"), self.sheet.tempo, found, self.axis.place,
            self.stretch, self._bars_before,
        )  # fmt: skip
        self.strip.paint(painter, size.width(), *self.axis.place, self.beats.lines is None)
        self.beats.paint_ruler(painter, size.width(), self.axis.place)
        strip = QRectF(0, size.height() - OVERVIEW, size.width(), OVERVIEW)
        in_view = self.axis.seconds_in_view()
        self._overview.paint(painter, strip, tr("everything"), self.row_layout.picture, selected, in_view)
        if self.hasFocus():
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.setPen(QPen(current.colour("ink"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.viewport().rect().adjusted(0, 0, -1, -1))

    def _paint_sweep(self, painter: QPainter) -> None:
        if self._sweep is None:
            return
        painter.setPen(QPen(theme.current().colour("ink"), 1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(self._sweep[0], self._sweep[1]).normalized())
