"""The drawing area of Takes: tracks with their rows over bars and beats, and the overview below."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

import numpy as np
from PySide6.QtCore import QEvent, QLineF, QPoint, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
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
from puresignal.ui.takes import bar_ruler, row_painter
from puresignal.ui.takes.bar_ruler import HANDLES, MARKS, RULER
from puresignal.ui.takes.beat_lines import BeatPainter
from puresignal.ui.takes.choice_row import HEIGHT as CHOICE_ROW
from puresignal.ui.takes.choice_row import ChoiceRow, Choices
from puresignal.ui.takes.note_drag import NoteDrag
from puresignal.ui.takes.overview import OVERVIEW, Overview
from puresignal.ui.takes.row_labels import GUTTER, NAMES, PAD, RowLabels
from puresignal.ui.takes.section_row import HEIGHT as SECTION_ROW
from puresignal.ui.takes.section_row import Bracket, SectionRow
from puresignal.ui.takes.time_strip import BEGIN, END, MOVE, TimeStrip
from puresignal.ui.takes.timeline_rows import Group, Picture, Row
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.plain_text import plain_tip

GLOW_MS = 140
MOST_CARETS = 250
"""Selected notes per row that get a pointer each."""
PITCH_ROW, GAP = 18.0, 5.0
"""Height in pixels of the row of one pitch, and of the rule that stands for pitches that are not played."""
BEAT = "beat"
TITLE = 66.0
"""Height in pixels that a track's name may take beside low rows."""
NARROWEST, WIDEST = 2.0, 4000.0
"""Pixels per second: limits of the zoom beyond fit, and in."""


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
    edit_requested       a key edits the selected notes: one of EDITS
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

    KEYS: ClassVar[dict[Qt.Key, str]] = {
        Qt.Key.Key_Delete: "remove",
        Qt.Key.Key_X: "remove",
        Qt.Key.Key_Insert: "keep",
        Qt.Key.Key_K: "keep",
        Qt.Key.Key_U: "automatic",
        Qt.Key.Key_D: "next_doubtful",
        Qt.Key.Key_E: "hear",
        Qt.Key.Key_J: "other_line",
        Qt.Key.Key_BracketLeft: "half_speed",
        Qt.Key.Key_BracketRight: "double_speed",
        Qt.Key.Key_Comma: "bars_earlier",
        Qt.Key.Key_Period: "bars_later",
        Qt.Key.Key_T: "tap_beat",
    }

    EDITS: ClassVar[dict[tuple[Qt.Key, Qt.KeyboardModifier], str]] = {
        (Qt.Key.Key_Left, Qt.KeyboardModifier.ControlModifier): "earlier",
        (Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier): "later",
        (Qt.Key.Key_Left, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier): "nudge_earlier",
        (Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier): "nudge_later",
        (Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier): "up",
        (Qt.Key.Key_Down, Qt.KeyboardModifier.ControlModifier): "down",
        (Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier): "octave_up",
        (Qt.Key.Key_Down, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier): "octave_down",
        (Qt.Key.Key_Left, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier): "tick_earlier",
        (Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier): "tick_later",
        (Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier): "copy_octave_up",
        (Qt.Key.Key_Down, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier): "copy_octave_down",
        (Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier): "louder",
        (Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier): "softer",
        (Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier): "longer",
        (Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier): "shorter",
        (Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier): "copy",
        (Qt.Key.Key_X, Qt.KeyboardModifier.ControlModifier): "cut",
        (Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier): "paste",
        (Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier): "duplicate",
        (Qt.Key.Key_Z, Qt.KeyboardModifier.ShiftModifier): "take_back",
        (Qt.Key.Key_Y, Qt.KeyboardModifier.NoModifier): "split",
        (Qt.Key.Key_Y, Qt.KeyboardModifier.ShiftModifier): "join",
    }
    """Keys that edit the selected notes."""

    STEPS: ClassVar[dict[Qt.Key, str]] = {
        Qt.Key.Key_Right: "step_right", Qt.Key.Key_Left: "step_left", Qt.Key.Key_Backspace: "step_back",
    }  # fmt: skip
    """Keys while notes are entered step by step."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(tr("Notes of the take"))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.viewport().setMouseTracking(True)
        self.verticalScrollBar().setAccessibleName(tr("Scroll the tracks"))
        self._picture = Picture((), 1.0)
        self._tempo = TempoMap()
        self._show = row_painter.BOTH
        self.selected = np.zeros(0, np.int64)
        self._is_selected = np.zeros(0, bool)
        self._overview = Overview(GUTTER)
        self._names = RowLabels()
        self.strip = TimeStrip()
        self.beats = BeatPainter()
        self._plain_height = 38.0
        self.stretch: tuple[float, float] | None = None
        self._grid: GridPicture | None = None
        self._sweep: tuple[QPointF, QPointF, np.ndarray] | None = None
        self._begin = 0.0
        self._scale = 100.0
        self._drag: tuple[str, float, float] | None = None
        self._describe: Callable[[int], str] = lambda origin: ""
        self._stands_out: Callable[[np.ndarray], np.ndarray] | None = None
        self._bars_before = 0
        self.verticalScrollBar().valueChanged.connect(lambda _: self.viewport().update())
        self._note_drag: NoteDrag | None = None
        self._pressed = -1
        # Whether notes are entered step by step.
        self.stepping = False
        self._together: dict[int, tuple[Row, tuple[np.ndarray, np.ndarray, np.ndarray]]] = {}
        self.line = PlayLine(self.viewport())
        self._line_at = 0.0
        self._glowing: str | None = None
        self._zooms: list[QPushButton] = []
        self._under: QWidget | None = None
        self._under_tall = 0
        self.sections = SectionRow(self, self.viewport())
        self.choices = ChoiceRow(self, self.viewport())
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
        begin, end = self.seconds_in_view()
        if follow and not begin <= second < end:
            self._begin = max(0.0, second - 0.02 * (end - begin))
            self._hold()
            self.viewport().update()
        self._place_line()

    def _place_line(self) -> None:
        x = round(self.x_of(self._line_at))
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
        self._picture, self._tempo, self._stands_out = picture, tempo, stands_out
        self._fronts: dict[int, tuple[Row | None, Row | None]] = {}
        self._together = {}
        self._bars_before = bars_before
        self._flag_selected()
        if fit:
            first = min((float(row.start[0]) for row in picture.rows if len(row.start)), default=0.0)
            bar = tempo.bar_start(max(1, tempo.position(first)[0]))
            first = float(tempo.ticks_to_seconds(np.array([bar]))[0])
            bars = tempo.beats_to_seconds(tempo.seconds_to_beats(np.array([first])) + 16)[0] - first
            self._begin = max(0.0, first - 0.02 * bars)
            self._scale = self._drawn_width() / max(0.5, min(bars, picture.length or bars))
        self._arrange()

    def set_show(self, show: str) -> None:
        """ "played", "clean" or "both"."""
        self._show = show
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
        columns = [one for row in self._picture.rows for one in (row.origin, row.clean_origin) if len(one)]
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
        if grid is not self._grid:
            self._grid = grid
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

    def seconds_in_view(self) -> tuple[float, float]:
        return self._begin, self._begin + self._drawn_width() / self._scale

    def x_of_all(self, seconds: np.ndarray) -> np.ndarray:
        """Pixels of (n,) seconds."""
        return np.asarray(GUTTER + (seconds - self._begin) * self._scale)

    def x_of(self, second: float) -> float:
        return GUTTER + (second - self._begin) * self._scale

    def second_at(self, x: float) -> float:
        return self._begin + (x - GUTTER) / self._scale

    def row_at(self, y: float) -> Row | None:
        for _, row, top, height in self._rows():
            if top <= y < top + height:
                return row
        return None

    def rows(self) -> tuple[Row, ...]:
        """The rows, from above."""
        return self._picture.rows

    def row_boxes(self) -> list[tuple[str, str, QRectF]]:
        """(track, row label, box in the viewport) of each row, for tests and accessibility."""
        return [
            (group.title, row.label, QRectF(GUTTER, top, self._drawn_width(), height))
            for group, row, top, height in self._rows()
        ]

    def _drawn_width(self) -> float:
        return max(50.0, self.viewport().width() - GUTTER)

    def _row_height(self, row: Row) -> float:
        return (PITCH_ROW + (GAP if row.gap else 0)) if row.pitched else self._plain_height

    def _fit_height(self) -> float:
        """Height of a plain row: the available space, within limits."""
        units = sum(not row.pitched for row in self._picture.rows)
        pitched = sum(self._row_height(row) for row in self._picture.rows if row.pitched)
        room = self.viewport().height() - self._top - OVERVIEW - 4 * len(self._picture.groups) - pitched
        return float(np.clip(room / max(1, units), 38.0, 84.0))

    def _rows(self) -> list[tuple[Group, Row, float, float]]:
        y = float(self._top - self.verticalScrollBar().value())
        placed = []
        for group in self._picture.groups:
            for row in group.rows:
                height = self._row_height(row)
                placed.append((group, row, y, height))
                y += height
            y += 4
        return placed

    def _arrange(self) -> None:
        self._plain_height = self._fit_height()
        total = sum(self._row_height(r) for r in self._picture.rows) + 4 * len(self._picture.groups)
        room = self.viewport().height() - self._top - OVERVIEW
        self.verticalScrollBar().setRange(0, max(0, round(total - room)))
        self.verticalScrollBar().setPageStep(max(1, room))
        self.verticalScrollBar().setSingleStep(24)
        self._hold()
        self.viewport().update()

    def _hold(self) -> None:
        """Keep zoom and position within limits."""
        width, length = self._drawn_width(), max(1.0, self._picture.length)
        self._scale = float(np.clip(self._scale, min(NARROWEST, 0.9 * width / length), WIDEST))
        self._begin = float(np.clip(self._begin, 0.0, max(0.0, length - 0.5 * width / self._scale)))

    # Moving

    def zoom(self, factor: float, about: float | None = None) -> None:
        """Zoom around a pixel, by default the middle."""
        about = GUTTER + self._drawn_width() / 2 if about is None else max(float(GUTTER), about)
        second = self.second_at(about)
        self._scale = float(np.clip(self._scale * factor, NARROWEST / 4, WIDEST))
        self._begin = second - (about - GUTTER) / self._scale
        self._hold()
        self.viewport().update()

    def show_all(self) -> None:
        """Show the whole take."""
        self._scale = self._drawn_width() / max(0.5, self._picture.length * 1.02)
        self._begin = 0.0
        self._hold()
        self.viewport().update()

    def move_by(self, seconds: float) -> None:
        self._begin += seconds
        self._hold()
        self.viewport().update()

    def bring_row_into_view(self, origin: int) -> None:
        """Scroll to the row of a note."""
        for _, row, top, height in self._rows():
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
        begin, end = self.seconds_in_view()
        if not begin + 0.05 * (end - begin) <= second <= end - 0.05 * (end - begin):
            self._begin = second - 0.3 * (end - begin)
            self._hold()
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
            begin, end = self.seconds_in_view()
            steps = turned.x() or turned.y()
            self.move_by(-steps / 120 * 0.1 * (end - begin))
        else:
            bar = self.verticalScrollBar()
            bar.setValue(bar.value() - round(turned.y() / 120 * 48))
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        begin, end = self.seconds_in_view()
        moves = {Qt.Key.Key_Left: -0.1, Qt.Key.Key_Right: 0.1, Qt.Key.Key_PageUp: -0.9, Qt.Key.Key_PageDown: 0.9}
        key = event.key()
        bar = self.verticalScrollBar()
        edit = self._edit_of(event)
        if edit:
            self.edit_requested.emit(edit)
        elif key in moves:
            self.move_by(moves[Qt.Key(key)] * (end - begin))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(1.4)
        elif key == Qt.Key.Key_Minus:
            self.zoom(1 / 1.4)
        elif key == Qt.Key.Key_0:
            self.show_all()
        elif key == Qt.Key.Key_Home:
            self.move_by(-self._begin)
        elif key == Qt.Key.Key_End:
            self.move_by(self._picture.length)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            bar.setValue(bar.value() + (30 if key == Qt.Key.Key_Down else -30))
        elif key == Qt.Key.Key_Escape:
            self.select(np.zeros(0, np.int64))
            self.set_stretch(None)
        elif key == Qt.Key.Key_A and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.select(np.concatenate([np.zeros(0, np.int64), *(self._drawn(r)[1] for r in self._picture.rows)]))
        elif key in self.KEYS and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            back = key == Qt.Key.Key_D and event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            self.action_requested.emit("previous_doubtful" if back else self.KEYS[Qt.Key(key)])
        else:
            super().keyPressEvent(event)

    def _edit_of(self, event: QKeyEvent) -> str:
        """The edit of the selected notes that a key stands for, empty for none."""
        control, shift = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier
        pressed = event.modifiers() & (control | shift | Qt.KeyboardModifier.AltModifier)
        if self.stepping and not pressed and event.key() in self.STEPS:
            return self.STEPS[Qt.Key(event.key())]
        name = self.EDITS.get((Qt.Key(event.key()), pressed), "")
        return name if name == "paste" or len(self.selected) else ""

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and self._edit_of(event):
            # With notes selected these keys are theirs, and not the window's.
            event.accept()
            return True
        return super().event(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if event.button() == Qt.MouseButton.MiddleButton:
            self._drag = ("pan", at.x(), self._begin)
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
                self._drag = ("stretch", self._on_beat(self.second_at(at.x())), 0.0)
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
        row = self.row_at(at.y())
        if row is not None and origin in self.selected:
            starts, origins = self._drawn(row)
            start = float(starts[np.flatnonzero(origins == origin)[0]])
            self._note_drag = NoteDrag(at, row, start, bool(modifiers & Qt.KeyboardModifier.ControlModifier))

    def _drag_notes(self, event: QMouseEvent) -> None:
        assert self._note_drag is not None
        at = event.position()
        begin, end = self.seconds_in_view()
        lines = self._grid.lines if self._grid is not None and len(self._grid.lines) else self._step_lines(begin, end)
        snaps = not event.modifiers() & Qt.KeyboardModifier.AltModifier
        self._note_drag.move(at, self._scale, self.row_at(at.y()), lines, snaps)
        if self._note_drag.is_on:
            self.viewport().setCursor(Qt.CursorShape.ClosedHandCursor)
            self.viewport().update()

    def _step_lines(self, begin: float, end: float) -> np.ndarray:
        """The sixteenths around what is in view."""
        return self._tempo.grid(max(0.0, begin - 4), end + 4, 4)[0]

    def _selected_boxes(self) -> list[QRectF]:
        """The selected notes in view, as they stand."""
        begin, end = self.seconds_in_view()
        boxes = []
        for _, row, top, height in self._rows():
            starts, velocities, origins = self._seen(row)
            first, last = np.searchsorted(starts, (begin, end))
            here = np.flatnonzero(self._is_selected[origins[first:last]]) + first
            base = top + height - (2 if row.pitched else row_painter.FOOT + 1)
            tall = (PITCH_ROW - 5) if row.pitched else height - row_painter.FOOT - 5
            for start, velocity in zip(starts[here].tolist(), velocities[here].tolist(), strict=True):
                high = tall if row.pitched else max(4.0, velocity / 127 * tall)
                boxes.append(QRectF(self.x_of(start) - 2, base - high, 5, high))
        return boxes

    def _press_strip(self, at: QPointF, where: QPoint) -> bool:
        """Take hold of the chosen take's handle, or press a mark. Returns whether there was one."""
        place = (GUTTER, self._begin, self._scale)
        if self.beats.lines is not None and at.y() >= HANDLES:
            self.beats.held = self.beats.line_at(at, place, self.viewport().width())
            if self.beats.held >= 0:
                self._drag = (BEAT, self.second_at(at.x()), 0.0)
            return True
        grip, mark = self.strip.grip_at(at, *place), self.strip.mark_at(at, *place)
        if grip is not None:
            self._drag = (grip, self.second_at(at.x()), 0.0)
        elif mark is not None:
            self.mark_pressed.emit(mark, where)
        return grip is not None or mark is not None

    def _strike(self, at: QPointF) -> bool:
        """Play the pad beside a row: harder the higher it is hit. Returns whether there was one."""
        for _, row, top, height in self._rows():
            if top <= at.y() < top + height and row.articulation is not None:
                part = (at.y() - top) / height * 2 - 1
                self.pad_played.emit(row.articulation, pad_velocity.velocity(0.0, max(0.0, 0.5 + 0.5 * part)))
                self._glowing = row.articulation
                QTimer.singleShot(GLOW_MS, self._fade)
                self.viewport().update()
                return True
        return False

    def _fade(self) -> None:
        self._glowing = None
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
        for group, row, top, height in self._rows():
            if top <= at.y() < top + height:
                rows = group.rows if at.x() < NAMES else (row,)
                return np.concatenate([r.origin for r in rows])
        return np.zeros(0, np.int64)

    def _on_beat(self, second: float) -> float:
        """The beat nearest to a second."""
        beat = float(self._tempo.seconds_to_beats(np.array([max(0.0, second)]))[0])
        return float(self._tempo.beats_to_seconds(np.array([round(beat)]))[0])

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if self._note_drag is not None:
            self._drag_notes(event)
            return
        if self._sweep is not None:
            self._sweep = (self._sweep[0], at, self._sweep[2])
            self.select(np.union1d(self._sweep[2], self._swept()), tell=False)
            return
        if self._drag is None:
            grip = self.strip.grip_at(at, GUTTER, self._begin, self._scale) if at.y() < RULER else None
            if self.beats.lines is not None:
                held = self.beats.line_at(at, (GUTTER, self._begin, self._scale), self.viewport().width())
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
            self.beat_dragged.emit(self.beats.held, self.second_at(at.x()))
        elif kind in (MOVE, BEGIN, END):
            now = self.second_at(at.x())
            self.grip_dragged.emit(kind, now - x, now)
        elif kind == "stretch":
            other = self._on_beat(self.second_at(max(float(GUTTER), at.x())))
            self.set_stretch((min(x, other), max(x, other)) if other != x else None)
        else:
            self._begin = begin - (at.x() - x) / self._scale
            self._hold()
            self.viewport().update()

    def _swept(self) -> np.ndarray:
        """Notes inside the selection box."""
        if self._sweep is None:
            return np.zeros(0, np.int64)
        box = QRectF(self._sweep[0], self._sweep[1]).normalized()
        begin, end = self.second_at(box.left()), self.second_at(box.right())
        found = [np.zeros(0, np.int64)]
        for _, row, top, height in self._rows():
            if top < box.bottom() and top + height > box.top():
                starts, origins = self._drawn(row)
                first, last = np.searchsorted(starts, (begin, end))
                found.append(origins[first:last])
        return np.concatenate(found)

    def _drawn(self, row: Row) -> tuple[np.ndarray, np.ndarray]:
        """Starts and origins of the visible notes of a row, rising."""
        found = self._seen(row)
        return found[0], found[2]

    def _seen(self, row: Row) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Starts, velocities and origins of the visible notes of a row: those that leave where they leave."""
        if self._show == row_painter.CLEAN:
            return row.clean_start, row.clean_velocity, row.clean_origin
        if self._show == row_painter.PLAYED:
            return row.start, row.velocity, row.origin
        known = self._together.get(id(row))
        if known is None or known[0] is not row:
            starts = np.concatenate([row.clean_start, row.start[row.gone]])
            order = np.argsort(starts, kind="stable")
            velocities = np.concatenate([row.clean_velocity, row.velocity[row.gone]])[order]
            origins = np.concatenate([row.clean_origin, row.origin[row.gone]])[order]
            known = row, (starts[order], velocities, origins)
            self._together[id(row)] = known
        return known[1]

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        inside = at.x() >= GUTTER and self._top <= at.y() < self.viewport().height() - OVERVIEW
        row = self.row_at(at.y()) if inside else None
        if row is None or self.note_at(at) >= 0 or event.button() != Qt.MouseButton.LeftButton:
            self.mousePressEvent(event)
            return
        tall, top = next((height, top) for _, one, top, height in self._rows() if one is row)
        velocity = int(np.clip(127 * (1 - (at.y() - top) / tall) * 1.15, 1, 127)) if not row.pitched else 90
        second = self.second_at(at.x())
        if not event.modifiers() & Qt.KeyboardModifier.AltModifier:
            begin, end = self.seconds_in_view()
            lines = self._grid.lines if self._grid is not None and len(self._grid.lines) else None
            lines = self._step_lines(begin, end) if lines is None else lines
            second = float(lines[np.argmin(np.abs(lines - second))]) if len(lines) else second
        self.draw_requested.emit(row, second, velocity)

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
            moved = self._on_beat(self.second_at(event.position().x())) != self._drag[1]
            self.set_stretch(self.stretch if moved else None)
            if not moved:
                self.seek_requested.emit(max(0.0, self.second_at(event.position().x())))
        if self._drag is not None and self._drag[0] in (MOVE, BEGIN, END):
            self.grip_released.emit()
        elif self._drag is not None and self._drag[0] == BEAT:
            self.beats.held = -1
            self.beat_released.emit()
            self.viewport().update()
        self._drag = None

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if event.pos().y() < RULER:
            place, at = (GUTTER, self._begin, self._scale), QPointF(event.pos())
            beat = self.beats.line_at(at, place, self.viewport().width())
            if beat >= 0:
                self.beat_menu_requested.emit(beat, event.globalPos())
            elif event.pos().x() >= GUTTER:
                self.ruler_menu_requested.emit(self.second_at(event.pos().x()), event.globalPos())
            return
        origin = self.note_at(QPointF(event.pos()))
        if origin >= 0 and origin not in self.selected:
            self.select(np.array([origin]))
        self.menu_requested.emit(event.globalPos())

    def _go_to_overview(self, x: float) -> None:
        second = self._overview.second_at(x, self._picture, round(self._drawn_width()))
        begin, end = self.seconds_in_view()
        self._begin = second - (end - begin) / 2
        self._hold()
        self.viewport().update()

    # Descriptions

    def note_at(self, at: QPointF) -> int:
        """Origin of the note within five pixels of a point, -1 for none."""
        row = self.row_at(at.y())
        if row is None or at.x() < GUTTER or not self._top <= at.y() < self.viewport().height() - OVERVIEW:
            return -1
        second = self.second_at(at.x())
        start, origin = self._drawn(row)
        if not len(start):
            return -1
        near = int(np.searchsorted(start, second))
        close = [i for i in (near - 1, near) if 0 <= i < len(start)]
        best = min(close, key=lambda i: abs(float(start[i]) - second))
        return int(origin[best]) if abs(float(start[best]) - second) * self._scale <= 5 else -1

    def words_at(self, at: QPointF) -> str:
        """Description of the note, row or position at a point."""
        origin = self.note_at(at)
        if origin >= 0:
            return self._describe(origin)
        if at.y() >= self.viewport().height() - OVERVIEW:
            return tr("everything: drag to move through it")
        bar, beat, _ = self._tempo.position(max(0.0, self.second_at(at.x())))
        moment = tr("bar {bar}, beat {beat}").format(bar=bar - self._bars_before, beat=beat)
        if HANDLES <= at.y() < RULER and self.beats.lines is not None:
            return tr("the beats of the take: drag a line to where it belongs, and what follows moves along")
        if HANDLES <= at.y() < RULER and self.strip.handle is not None:
            return tr("the chosen take: drag it to move it, its ends to crop it (Alt: not to the beat)")
        if at.y() < RULER:
            return tr("{moment}: drag to select a time range").format(moment=moment)
        for group, row, top, height in self._rows():
            if top <= at.y() < top + height:
                where = group.title if row.label == group.title.lower() else f"{group.title}, {row.label}"
                if at.x() < GUTTER:
                    return tr("{where}: {n} hits, click to select them").format(where=where, n=len(row.start))
                return f"{where} · {moment}"
        return moment

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
        found = bar_ruler.lines(self._tempo, *self.seconds_in_view(), self._scale)
        if self._grid is not None and len(self._grid.lines):
            found = bar_ruler.with_grid(found, self._grid.lines, *self.seconds_in_view(), self._scale)
        self._paint_shades(painter, body, found)
        self._paint_stretch(painter, body)
        self._paint_rows(painter, body)
        self.beats.paint_body(painter, body, (GUTTER, self._begin, self._scale))
        self._paint_sweep(painter)
        if self._note_drag is not None and self._note_drag.is_on:
            painter.setClipRect(body.adjusted(GUTTER, 0, 0, 0))
            self._note_drag.paint(painter, self._selected_boxes(), self._scale, current.colour("ink"))
        painter.restore()
        bar_ruler.paint_ruler(
            painter, size.width(), tr("bar"), self._tempo, found, (GUTTER, self._begin, self._scale),
            self.stretch, self._bars_before,
        )  # fmt: skip
        self.strip.paint(painter, size.width(), GUTTER, self._begin, self._scale, self.beats.lines is None)
        self.beats.paint_ruler(painter, size.width(), (GUTTER, self._begin, self._scale))
        strip = QRectF(0, size.height() - OVERVIEW, size.width(), OVERVIEW)
        chosen = self._is_selected if len(self.selected) else np.zeros(0, bool)
        self._overview.paint(painter, strip, tr("everything"), self._picture, chosen, self.seconds_in_view())
        if self.hasFocus():
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.setPen(QPen(current.colour("ink"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.viewport().rect().adjusted(0, 0, -1, -1))

    def _paint_shades(self, painter: QPainter, body: QRectF, found: tuple[np.ndarray, np.ndarray]) -> None:
        current = theme.current()
        times, ranks = found
        hair, strong = current.colour("line"), current.colour("edge")
        # Lines that notes are pulled to are to be seen; the usual subdivisions only guide the eye.
        fine = QPen(current.colour("shade"), 1)
        if self._grid is not None and len(self._grid.lines):
            fine = QPen(current.colour("line"), 1, Qt.PenStyle.DotLine)
        for rank, pen in ((0, fine), (1, QPen(hair, 1)), (2, QPen(strong, 1))):
            painter.setPen(pen)
            x = np.rint(GUTTER + (times[ranks == rank] - self._begin) * self._scale) + 0.5
            painter.drawLines([QLineF(a, body.top(), a, body.bottom()) for a in x.tolist()])

    def _paint_stretch(self, painter: QPainter, body: QRectF) -> None:
        if self.stretch is None:
            return
        left, right = max(float(GUTTER), self.x_of(self.stretch[0])), self.x_of(self.stretch[1])
        if right > left:
            tint = theme.current().colour("chosen")
            tint.setAlpha(120)
            painter.fillRect(QRectF(left, body.top(), right - left, body.height()), tint)

    def _paint_sweep(self, painter: QPainter) -> None:
        if self._sweep is None:
            return
        painter.setPen(QPen(theme.current().colour("ink"), 1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(self._sweep[0], self._sweep[1]).normalized())

    def _paint_rows(self, painter: QPainter, body: QRectF) -> None:
        current = theme.current()
        ink, line = current.colour("ink"), current.colour("line")
        begin, end = self.seconds_in_view()
        frame = row_painter.Frame(
            GUTTER, self._drawn_width(), GUTTER - begin * self._scale, self._scale, begin, end,
            painter.device().devicePixelRatioF(),
        )  # fmt: skip
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        lines = bar_ruler.sixteenths(self._tempo, begin, end, self._scale)
        if self._grid is not None and len(lines):
            lines = self._grid.lines
        previous = None
        for group, row, top, height in self._rows():
            if group is not previous:
                self._paint_group(painter, group, top, frame.ratio)
                previous = group
            if top > body.bottom() or top + height < body.top():
                continue
            if row.articulation is not None and row.articulation == self._glowing:
                painter.fillRect(QRectF(GUTTER - PAD + 2, top + 3, PAD - 5, height - 7), current.colour("accent"))
            base = top + height - (2 if row.pitched else row_painter.FOOT + 1)
            if row.gap:
                painter.fillRect(QRectF(GUTTER, top + 1, self.viewport().width() - GUTTER, 2), current.colour("line"))
            colour = current.colour("accent") if row.unmapped else current.family(row.family)
            painter.setPen(QPen(line, 1))
            painter.drawLine(QLineF(GUTTER, base + 0.5, self.viewport().width(), base + 0.5))
            tall = (PITCH_ROW - 5) if row.pitched else height - row_painter.FOOT - 5
            painter.setClipRect(QRectF(GUTTER, body.top(), self._drawn_width(), body.height()))
            behind, row_in_front = self._in_front(row)
            pale = current.colour("line")
            for part, tint, strike in ((behind, pale, pale), (row_in_front, colour, ink)):
                if part is None:
                    continue
                if row.pitched:
                    faint = QColor(tint)
                    faint.setAlpha(60)
                    row_painter.draw_bars(painter, part, self._show, frame, base, tall, (tint, faint))
                else:
                    row_painter.draw_row(painter, part, self._show, frame, base, tall, (tint, strike))
            if not row.pitched and row_in_front is not None and len(lines):
                front = row_in_front
                starts = front.start if self._show == row_painter.PLAYED else front.clean_start
                first, last = np.searchsorted(starts, (frame.begin, frame.end))
                row_painter.draw_whiskers(painter, starts[first:last], lines, frame, base, ink)
            if self._grid is not None and len(self._grid.between[0]):
                self._paint_between(painter, row, frame, base, tall)
            self._paint_chosen(painter, row, frame, base, tall)
            painter.setClipRect(body)
            down = GAP if row.gap else 0.0
            label = self._names.label(row, height - down, colour, frame.ratio)
            painter.drawImage(QPointF(NAMES, top + down), label)
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(GUTTER - 0.5, body.top(), GUTTER - 0.5, body.bottom()))

    def _paint_between(self, painter: QPainter, row: Row, frame: row_painter.Frame, base: float, tall: float) -> None:
        """Both lines of the notes in a row that could belong to either."""
        assert self._grid is not None
        origins, both = self._grid.between
        first, last = np.searchsorted(row.clean_start, (frame.begin - 1, frame.end + 1))
        place = np.searchsorted(origins, row.clean_origin[first:last])
        place = np.minimum(place, len(origins) - 1)
        known = origins[place] == row.clean_origin[first:last]
        accent = theme.current().colour("accent")
        row_painter.draw_between(painter, both[np.unique(place[known])], frame, base, tall, accent)

    def _in_front(self, row: Row) -> tuple[Row | None, Row | None]:
        """The notes of other takes, which are pale, and those of the chosen one; (None, row) where none is pale."""
        if self._stands_out is None:
            return None, row
        known = self._fronts.get(id(row))
        if known is None:
            mine, clean = self._stands_out(row.origin), self._stands_out(row.clean_origin)
            known = (None, row) if mine.all() else (row.part(~mine, ~clean), row.part(mine, clean))
            self._fronts[id(row)] = known
        return known

    def _paint_chosen(self, painter: QPainter, row: Row, frame: row_painter.Frame, base: float, tall: float) -> None:
        if not len(self.selected):
            return
        starts, velocities, origins = self._seen(row)
        first, last = np.searchsorted(starts, (frame.begin, frame.end))
        here = np.flatnonzero(self._is_selected[origins[first:last]]) + first
        painter.setPen(Qt.PenStyle.NoPen)
        accent = theme.current().colour("accent")
        painter.setBrush(accent)
        if len(here) > MOST_CARETS:
            # Too many for single pointers: a line over them.
            places = distinct((frame.x0 + starts[here] * frame.scale).astype(np.int64))
            runs = np.split(places, np.flatnonzero(np.diff(places) > 3) + 1)
            painter.drawRects([QRectF(run[0], base - tall - 4, run[-1] - run[0] + 2, 3) for run in runs])
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
        tops = row_painter.stem_tops(velocities[here], base, tall)
        for start, top in zip(starts[here].tolist(), tops.tolist(), strict=True):
            painter.drawPolygon(row_painter.caret(self.x_of(start), top - 1))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _paint_group(self, painter: QPainter, group: Group, top: float, ratio: float) -> None:
        current = theme.current()
        height = sum(self._row_height(row) for row in group.rows)
        unmapped = any(row.unmapped for row in group.rows)
        colour = current.colour("accent") if unmapped else current.family(group.family)
        painter.fillRect(QRectF(0, top, 5, height), colour)
        painter.setPen(QPen(current.colour("line"), 1))
        painter.drawLine(QLineF(0, top + height + 2.5, self.viewport().width(), top + height + 2.5))
        ink = colour if unmapped else current.colour("ink")
        # Beside low rows of single pitches a name may take the height of several.
        tall = min(height, TITLE) if group.rows and group.rows[0].pitched else self._plain_height
        painter.drawImage(QPointF(14, top + 2), self._names.title(group, tall, ink, ratio))
