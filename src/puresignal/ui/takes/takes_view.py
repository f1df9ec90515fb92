"""The Takes view: played and clean notes over bars and beats, with the path and the selected note at the right."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QHBoxLayout, QMenu, QVBoxLayout, QWidget

from puresignal.core.analysis.grid_picture import GridPicture, grid_picture
from puresignal.core.export.note_chances import probabilities
from puresignal.core.export.session_result import SeveralTakes
from puresignal.core.harmony.scales import scale_of
from puresignal.core.kit.articulations import spoken
from puresignal.core.path import held_to_key, note_selection
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.stage_description import Reason, Stage
from puresignal.core.path.tally import Action
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session import playing_order
from puresignal.core.session import session as edits
from puresignal.core.session.take_ref import DRAWN, SOUND
from puresignal.core.timing.session_time import Timeline as SessionTime
from puresignal.translation import mark, tr
from puresignal.ui.state.lyric_actions import LyricActions
from puresignal.ui.state.services import Services
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.sound_of_take import sound_picture
from puresignal.ui.state.view import View
from puresignal.ui.takes import note_menu, row_painter, takes_toolbar
from puresignal.ui.takes.beat_bar import BeatBar
from puresignal.ui.takes.choice_row import Choices
from puresignal.ui.takes.control_strip import ControlStrip
from puresignal.ui.takes.list_panel import ListPanel
from puresignal.ui.takes.note_gestures import NoteGestures
from puresignal.ui.takes.path_panel import PathPanel
from puresignal.ui.takes.recipe_bar import RecipeBar
from puresignal.ui.takes.row_labels import GUTTER
from puresignal.ui.takes.section_row import Bracket
from puresignal.ui.takes.sentence_selection import SentenceSelection
from puresignal.ui.takes.sound_strip import SoundStrip
from puresignal.ui.takes.take_grip import TakeGrip
from puresignal.ui.takes.takes_toolbar import TakesToolbar, button
from puresignal.ui.takes.time_menus import TimeMenus
from puresignal.ui.takes.time_strip import Handle, marks_of
from puresignal.ui.takes.timeline import Timeline
from puresignal.ui.takes.timeline_rows import picture
from puresignal.ui.takes.trace_panel import TracePanel
from puresignal.ui.takes.velocity_strip import PROBABILITY, VelocityStrip
from puresignal.ui.takes.words_strip import WordsStrip
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea

SIDE = 272
BEAT_ACTIONS = ("half_speed", "double_speed", "bars_earlier", "bars_later", "tap_beat")
"""Keys that mend the beats of the chosen take while they are shown."""
AT_ONCE, LOOK_LATER_MS = 20_000, 400
"""Notes up to which the picture of the grid is made with each step of a drag; of more, so long after the last step."""
BEFORE, AFTER = 1.5, 1.0
"""Seconds before and after a note that are played as its context."""
SHORTEST_HEARD = 0.12
"""Seconds that are played of a note that was clicked, at least."""


def _idents(shown: Shown) -> tuple[str, ...]:
    return () if shown.several is None else shown.several.idents


class TakesView(View):
    """The timeline with its controls, a line that describes what is under the pointer, and the side panel.

    face_shown  the face below the rows was shown or hidden
    """

    face_shown = Signal(bool)

    shows_all = True

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(services, parent)
        self._workbench, playback = services.workbench, services.playback
        self._shown: Shown | None = None
        self.timeline = Timeline()
        self.timeline.set_describe(self.describe)
        self.timeline.description_changed.connect(self._hover)
        self.timeline.chosen.connect(self._choose)
        self.timeline.range_selected.connect(playback.set_span)
        self.timeline.pad_played.connect(services.live_session.audition)
        self.timeline.seek_requested.connect(playback.go)
        playback.span_changed.connect(self.timeline.show_stretch)
        playback.span_changed.connect(self._keep_stretch)
        playback.moved.connect(self._move_line)
        self.timeline.set_line(playback.place, False)
        self._recorded = False
        self.hears_clicks = False
        services.capture.changed.connect(self._follow_recording)
        self.timeline.action_requested.connect(self.act)
        self._notes = services.note_actions
        self.gestures = NoteGestures(services, self.timeline, self)
        self.timeline.menu_requested.connect(lambda at: self.menu().exec(at))
        self.time = TimeMenus(services, self)
        self.timeline.mark_pressed.connect(self.time.edit_mark)
        self.timeline.ruler_menu_requested.connect(lambda second, at: self.time.ruler_menu(second).exec(at))
        self.tempo = services.take_tempo
        self.beat_bar = BeatBar(services)
        self.beat_bar.hide()
        self.beat_bar.closed.connect(lambda: self.show_beats(False))
        self.tempo.changed.connect(self._draw_beats)
        self.timeline.beat_dragged.connect(self.tempo.drag)
        self.timeline.beat_released.connect(self.tempo.release)
        self.timeline.beat_menu_requested.connect(lambda beat, at: self.beat_menu(beat).exec(at))
        self._grip = TakeGrip(services)
        self.timeline.grip_dragged.connect(self._grip.drag)
        self.timeline.grip_released.connect(self._grip.release)
        self.timeline.choices.chosen.connect(services.take_actions.choose_for_bars)
        self.timeline.sections.actions_of = services.sections
        services.sections.chosen_changed.connect(self.timeline.sections.update)
        self.in_order = button(
            mark("In order"),
            mark("Bars in playing order"),
            mark("See and hear the sections in playing order with their repeats, or the bars as they stand."),
        )
        self.in_order.setCheckable(True)
        self.in_order.clicked.connect(lambda _: self.toggle_in_order())
        self.in_order.setObjectName("small")
        self.timeline.sections.add_button(self.in_order)
        self.setAcceptDrops(True)
        self.said = PlainLabel()
        self.said.setObjectName("faint")
        self.said.setAccessibleName(tr("Under the pointer"))
        self.empty = PlainLabel(
            tr("No take yet. Record one (R), open a MIDI file or a recording, or let the simulated drummer play.")
        )
        self.empty.setObjectName("faint")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._look_later = QTimer(self)
        self._look_later.setSingleShot(True)
        self._look_later.timeout.connect(lambda: self._find_grid(self._shown))
        self.path = PathPanel(services.workbench, services.background, services.live_lessons)
        self.path.suggestion_made.connect(services.notices.offer)
        self.path.notes_requested.connect(
            lambda stage: self._point(note_selection.touched(self._outcome(), Stage.of(stage)))
        )
        self.path.orphans_requested.connect(self._select_orphans)
        self.path.forgotten.connect(self._forget_orphans)
        self.trace = TracePanel()
        self.trace.action_requested.connect(self.act)
        self.side = self._make_side()
        self.sentence = SentenceSelection(
            services.workbench, self.timeline, self._point, lambda: self.path.stretch, self
        )  # fmt: skip
        self.tools = self._make_tools()

        axis = self.timeline.axis
        left = QVBoxLayout()
        left.setSpacing(0)
        left.addWidget(self.tools)
        left.addWidget(self.beat_bar)
        self.recipe = RecipeBar(services)
        self.recipe.hide()
        left.addWidget(self.recipe)
        self.strip = VelocityStrip(axis.x_of_all)
        self.strip.hide()
        self.strip.drawn.connect(self._draw_values)
        self.strip.asked.connect(self._fill_strip)
        self.timeline.painted.connect(self.strip.update)
        self.controls = ControlStrip(
            services.control_lines, axis.x_of_all, axis.second_at, lambda: self.timeline.selected,
            lambda: services.playback.span,
        )  # fmt: skip
        self.controls.hide()
        self.timeline.painted.connect(self.controls.update)
        self.lyrics = LyricActions(self._workbench, self)
        self.words = WordsStrip(self.lyrics, axis.x_of_all, axis.second_at)
        self.words.hide()
        self.words.chosen.connect(self._point)
        self.timeline.painted.connect(self.words.update)
        self.sound = SoundStrip(axis.x_of_all, axis.second_at)
        self.timeline.put_under_ruler(self.sound)
        self.sound.balanced.connect(services.live_session.set_balance)
        self.timeline.painted.connect(self.sound.update)
        self.list = ListPanel(self._notes, services.control_lines)
        self.list.hide()
        self.list.chosen.connect(self._choose_listed)
        left.addWidget(self.timeline, 3)
        left.addWidget(self.words)
        left.addWidget(self.strip)
        left.addWidget(self.controls)
        left.addWidget(self.list, 2)
        left.addWidget(self.empty, 1)
        self._below = QVBoxLayout()
        self._face: QWidget | None = None
        left.addLayout(self._below)
        self.said.setContentsMargins(14, 3, 14, 4)
        self.said.setMinimumWidth(10)
        left.addWidget(self.said)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addLayout(left, 1)
        row.addWidget(self.side)

    def _make_side(self) -> VerticalScrollArea:
        inner = QWidget()
        inner.setObjectName("rail")
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.path)
        column.addWidget(self.trace, 1)
        side = VerticalScrollArea(inner)
        side.setObjectName("side")
        side.setFixedWidth(SIDE)
        return side

    def _make_tools(self) -> TakesToolbar:
        tools = TakesToolbar()
        tools.show_chosen.connect(self.choose)
        tools.rows_changed.connect(lambda: self._draw(False))
        tools.alone.clicked.connect(lambda _: self.toggle_alone())
        tools.beats.clicked.connect(self.show_beats)
        tools.steps.toggled.connect(self._switch_steps)
        tools.doubtful_asked.connect(lambda: self.act("next_doubtful"))
        tools.side.toggled.connect(lambda on: self.side.setVisible(on))
        shows = {
            takes_toolbar.SOUND: self._show_sound, takes_toolbar.STRIP: self._show_strip,
            takes_toolbar.CONTROL: self._show_controls, takes_toolbar.WORDS: self._show_words,
            takes_toolbar.LIST: self._show_list, takes_toolbar.FACE: self._show_face,
        }  # fmt: skip
        tools.below_switched.connect(lambda name, on: shows[name](on))
        # Beside the overview, where what they change is seen.
        for label, name, tip, act in (
            ("\N{MINUS SIGN}", mark("Zoom out"), mark("Show more time (minus key, or Ctrl and wheel)."),
             lambda: self.timeline.zoom(1 / 1.5)),
            ("+", mark("Zoom in"), mark("Show less time (plus key, or Ctrl and wheel)."),
             lambda: self.timeline.zoom(1.5)),
            (mark("All"), mark("Show the whole take"), mark("Show the whole take (key 0)."), self.timeline.show_all),
        ):  # fmt: skip
            zoom = button(label, name, tip)
            zoom.setObjectName("small")
            zoom.clicked.connect(lambda _=False, act=act: act())
            self.timeline.add_zoom(zoom)
        return tools

    def set_compact(self, compact: bool) -> None:
        """In a narrow window use a narrower side panel and hide buttons that keys duplicate."""
        self.side.setFixedWidth(240 if compact else SIDE)
        self.tools.set_compact(compact)

    def first_focus(self) -> QWidget:
        return self.timeline

    def prepare_screenshot(self) -> None:
        if self._shown is not None:
            self.timeline.select(self._shown.outcome.output_notes.origin[40:41])

    def _follow_recording(self) -> None:
        """After a recording the position is in view, wherever it went."""
        was, self._recorded = self._recorded, self._services.capture.running
        if was and not self._recorded:
            QTimer.singleShot(0, lambda: self.timeline.bring_into_view(self._services.playback.place))

    def _move_line(self, seconds: float) -> None:
        """Move the position line; during playback it is kept in view."""
        self.timeline.set_line(seconds, self._services.playback.playing)

    # Offered in the menus

    def _keep_stretch(self, stretch: object) -> None:
        self.path.stretch = stretch  # type: ignore[assignment]

    def show_played(self) -> None:
        self.choose(row_painter.PLAYED)

    def show_clean(self) -> None:
        self.choose(row_painter.CLEAN)

    def show_both(self) -> None:
        self.choose(row_painter.BOTH)

    def toggle_rows(self) -> None:
        """Also show rows on which nothing was played, or not."""
        self.tools.all_rows.toggle()

    def toggle_side(self) -> None:
        self.tools.side.toggle()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.source() is None and event.mimeData().hasUrls() and self._shown is not None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Files that are dropped on a bar begin there; beside the bars, with bar 1."""
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        at = self.timeline.viewport().mapFrom(self, event.position().toPoint())
        self._services.requests.files_dropped.emit(paths, self._dropped_at(at.x()))
        event.acceptProposedAction()

    def _dropped_at(self, x: float) -> float:
        """The beat from bar 1 of the bar line nearest to a place."""
        several = None if self._shown is None else self._shown.several
        if several is None or x < GUTTER:
            return 0.0
        timeline = several.timeline
        bar, into = timeline.beats_to_bar(several.beat_of(self.timeline.axis.second_at(x)))
        return timeline.bar_to_beats(bar + (1 if into > timeline.meter_at(bar).beats / 2 else 0))

    def toggle_alone(self) -> None:
        """See and hear only the chosen take, or all that are in."""
        bench = self._workbench
        ref = bench.session.take()
        if ref is None or not ref.is_in:
            # A take that is out is alone anyhow: it comes in by its card.
            self.tools.alone.setChecked(ref is not None)
            return
        bench.do(tr("hear take alone"), edits.with_alone(bench.session, not bench.session.display.alone))

    def toggle_beats(self) -> None:
        self.show_beats(not self.beat_bar.isVisible())

    def show_beats(self, on: bool) -> None:
        """Show the beats of the chosen take with what mends them; a take without any is searched for them."""
        self.tools.beats.setChecked(on)
        self.beat_bar.setVisible(on)
        self.timeline.own_tap_key(on)
        self.tempo.end_taps()
        if on:
            self.beat_bar.show_beats()
            if self.tempo.ref() is not None and self.tempo.beats() is None:
                self.tempo.find()
        self._draw_beats()

    def _draw_beats(self) -> None:
        self.timeline.show_beats(self.tempo.lines() if self.tools.beats.isChecked() else None)

    def beat_menu(self, beat: int) -> QMenu:
        """The menu of one line of the take's beats."""
        menu = QMenu(self)
        menu.addAction(tr("A bar begins here")).triggered.connect(lambda: self.tempo.set_downbeat(beat))
        menu.addAction(tr("Half the speed")).triggered.connect(self.tempo.halve)
        menu.addAction(tr("Double the speed")).triggered.connect(self.tempo.double)
        menu.addSeparator()
        menu.addAction(tr("Remove the beats of this take")).triggered.connect(self.tempo.forget)
        return menu

    def step_forward(self) -> None:
        self.step(1)

    def step_back(self) -> None:
        self.step(-1)

    # Showing

    def choose(self, show: str) -> None:
        """ "played", "clean" or "both"."""
        self.tools.show_buttons[show].setChecked(True)
        self.timeline.set_show(show)

    def show_take(self, shown: Shown | None) -> None:
        """Show the current take; zoom, position and selection are kept for the same take."""
        before, self._shown = self._shown, shown
        self.gestures.shown = shown
        self.sentence.show_take(shown)
        self.timeline.setVisible(shown is not None)
        self.empty.setVisible(shown is None)
        if before is None and shown is not None and self.isVisible():
            # The first take: its keys work at once, as when one turns to this view.
            self.timeline.setFocus()
        self.path.show_take(shown)
        self.recipe.show_take()
        if shown is None:
            self.trace.show_notes(None, np.zeros(0, np.int64))
            return
        several = shown.several is not None and len(self._workbench.session.takes) > 1
        self.tools.alone.setEnabled(several)
        self.tools.pale.setEnabled(several)
        self.tools.alone.setChecked(self._workbench.is_alone and several)
        # A take that is still being played is a new value each time, but the same one to the player.
        growing = self._workbench.session.take(shown.ref.ident) is None
        same = before is not None and (
            before.take.events is shown.take.events
            or (growing and before.take.ident == shown.take.ident)
            or (before.is_several and shown.is_several and _idents(before) == _idents(shown))
        )
        self._draw(not same)
        if growing:
            self.timeline.bring_into_view(shown.take.length)
        if same:
            # A drawn note that was selected may be gone.
            there = self.timeline.selected[self.timeline.selected < len(shown.take.events)]
            if len(there) < len(self.timeline.selected):
                self.timeline.select(there)
            self.trace.show_notes(shown, there)
        else:
            self.timeline.select(np.zeros(0, np.int64))
            self.timeline.show_stretch(self._services.playback.span)
        if self.controls.isVisible():
            self.controls.show_line()
        if self.words.isVisible():
            self._fill_words()
        self.tools.doubtful.setEnabled(len(note_selection.doubtful(shown.outcome)) > 0)
        if self.list.isVisible():
            self.list.show_take(shown)
        if self.strip.isVisible():
            self._fill_strip()
        self._show_sound(self.tools.below[takes_toolbar.SOUND].isChecked())
        self._look_at_grid(shown)
        self._look_at_keys(shown)

    def show_settings(self) -> None:
        self.path.show_settings()

    def _look_at_grid(self, shown: Shown) -> None:
        """Find what quantise goes by, beside the window; shown while it is on."""
        # Of many notes only when nothing is being moved: it takes as long as quantising does.
        if len(shown.outcome.input_notes) > AT_ONCE:
            self._look_later.start(LOOK_LATER_MS)
        else:
            self._find_grid(shown)

    def _find_grid(self, shown: Shown | None) -> None:
        if shown is None:
            return
        timing, in_order = self._workbench.session.path.timing, self._workbench.session.display.in_order
        if not timing.on or in_order or not len(shown.outcome.input_notes):
            self._show_grid(None)
            return
        several = shown.several
        timeline = SessionTime.from_tempo_map(shown.take.tempo) if several is None else several.timeline
        shift = 0.0 if several is None else several.shift
        outcome = shown.outcome
        self._services.background.run("grid", lambda: grid_picture(outcome, timing, timeline, shift), self._show_grid)

    def _look_at_keys(self, shown: Shown) -> None:
        """Rank the keys of what is played, beside the window; shown while notes are held to one."""
        heard = shown.several is not None and any(ref.heard is not None for ref in shown.several.refs)
        if not self._workbench.session.path.key.on and not heard:
            self.path.show_keys(())
            return
        notes = shown.outcome.input_notes
        self._services.background.run("keys", lambda: held_to_key.ranked(notes), self.path.show_keys)

    def _show_grid(self, found: GridPicture | None) -> None:
        on = self._workbench.session.path.timing.on
        self.timeline.show_grid(found if on else None)
        self.path.show_grid(found if on else None)

    def _draw(self, fit: bool) -> None:
        if self._shown is None:
            return
        own = self._workbench.own
        whole = own.context if self.tools.all_rows.isChecked() and own is not None else None
        scale = scale_of(self._workbench.session.key) if self.tools.degrees.isChecked() else ()
        drawn = picture(self._shown.outcome, self._shown.delivery, self._shown.take.length, whole, scale)
        several = self._shown.several
        pale = several is not None and len(several.refs) > 1 and self.tools.pale.isChecked()
        self.timeline.show_picture(
            drawn,
            self._shown.take.tempo,
            fit,
            self._shown.stands_out if pale else None,
            0 if several is None else several.bars_before,
        )
        self._draw_strip()
        self._draw_beats()

    def _draw_strip(self) -> None:
        """The marks of tempo and meter, and the chosen take's handle."""
        strip, shown = self.timeline.strip, self._shown
        several = None if shown is None else shown.several
        strip.marks = () if several is None else marks_of(several)
        strip.handle = None
        ref = self._workbench.session.take()
        if several is not None and ref is not None and ref.ident in several.idents:
            begin, end = self._services.take_actions.span(ref.ident)
            crops = ref.kind != SOUND and not ref.passes
            strip.handle = Handle(ref.name, several.second_of(begin), several.second_of(end), crops)
        group, session = self._services.take_actions.group(), self._workbench.session
        names = {one.ident: one.name for one in session.takes}
        chosen = set(group.takes) & set(several.idents) if group is not None and several is not None else set()
        in_order = session.display.in_order and not self._services.sections.is_plain
        if in_order:
            # The bars are those of the playing order, in which takes have no one place.
            strip.handle, chosen = None, set()
        self.timeline.show_sections(self._brackets(several, in_order), several)
        self.in_order.setEnabled(not self._services.sections.is_plain)
        self.in_order.setChecked(in_order)
        choices = Choices(group, names, several) if group is not None and several is not None and chosen else None
        self.timeline.show_choices(choices)
        self.timeline.viewport().update()

    def _brackets(self, several: SeveralTakes | None, in_order: bool) -> tuple[Bracket, ...]:
        """The sections as they stand, or each of its rounds where they are played in order."""
        session = self._workbench.session
        if several is None:
            return ()
        if not in_order:
            return tuple(Bracket(s.ident, s.name, s.bar, s.bars, s.hidden, s.repeats) for s in session.sections)
        names = {one.ident: one.name for one in session.sections}
        found, bar = [], 1
        for piece in playing_order.pieces(session, 1):
            bars = piece.after - piece.first
            if piece.section:
                found.append(Bracket("", names[piece.section], bar, bars))
            bar += bars
        return tuple(found)

    def toggle_in_order(self) -> None:
        """See and hear the bars in playing order, or as they stand."""
        sections = self._services.sections
        if not sections.is_plain:
            sections.in_order(not self._workbench.session.display.in_order)

    def make_section(self) -> None:
        self._services.sections.make()

    def ask_order(self) -> None:
        if self._workbench.session.sections:
            self.timeline.sections.ask_order()

    def _outcome(self) -> Outcome:
        assert self._shown is not None
        return self._shown.outcome

    def point_at(self, action: int, reason: int) -> None:
        """Select the notes behind a figure of the tally; (-1, -1) selects none."""
        if self._shown is None or (action, reason) == (-1, -1):
            self.timeline.select(np.zeros(0, np.int64))
            return
        outcome = self._shown.outcome
        if action >= 0:
            if action == Action.REMOVED:
                self.choose(row_painter.BOTH)
            self._point(note_selection.in_order(outcome, outcome.tally.origins(Action(action), Reason.of(reason))))
        elif reason == -4:
            self._point(note_selection.doubtful(outcome))
        else:
            self.choose(row_painter.PLAYED if reason == -2 else row_painter.CLEAN)

    def show_hits(self, origins: np.ndarray) -> None:
        """Select notes and bring the first into view."""
        self._point(origins)

    def _point(self, origins: np.ndarray) -> None:
        self.timeline.select(origins)
        if not len(origins) or self._shown is None:
            return
        starts = self._starts(origins)
        begin, end = self.timeline.axis.seconds_in_view()
        if not np.any((starts > begin) & (starts < end)):
            self.timeline.bring_into_view(float(starts[0]))

    def _starts(self, origins: np.ndarray) -> np.ndarray:
        assert self._shown is not None
        rows = self._shown.row_of_origin[origins]
        return np.sort(self._shown.outcome.input_notes.start[rows[rows >= 0]])

    def step(self, direction: int) -> None:
        """Go to the next selected note, or the previous one."""
        if self._shown is None or not len(self.timeline.selected):
            return
        starts = self._starts(self.timeline.selected)
        begin, end = self.timeline.axis.seconds_in_view()
        place = begin + 0.3 * (end - begin)
        later = starts[starts > place + 1e-3] if direction > 0 else starts[starts < place - 1e-3]
        if len(later):
            at = float(later[0] if direction > 0 else later[-1])
            self.timeline.move_by(at - place)

    # Actions

    def act(self, action: str) -> None:
        """Do what a key, a button or the menu asked for."""
        if self._shown is None:
            return
        if action in BEAT_ACTIONS:
            if self.tools.beats.isChecked():
                self._mend(action)
            return
        if action in ("next_doubtful", "previous_doubtful"):
            self._step_doubtful(1 if action == "next_doubtful" else -1)
            return
        if action == "show_all":
            self.timeline.show_all()
            return
        origins = self.timeline.selected
        if action == "hear":
            self._hear(origins)
            return
        if action.endswith("alike") and len(origins) == 1:
            origins = note_selection.alike(self._shown.outcome, int(origins[0]))
        if not len(origins):
            return
        if action == "remove":
            drawn = [ident for ident in self._shown.whose(origins) if self._is_drawn(ident)]
            if drawn:
                self._notes.erase(origins)
                return
        verdicts = {
            "remove": Verdict(keep=False), "keep": Verdict(keep=True), "other_line": Verdict(other_line=True),
        }  # fmt: skip
        verdict = verdicts.get(action.removesuffix("_alike"))
        if action == "other_line":
            # Pressed again it goes back.
            on_other = all((one := self._shown.verdict_of(int(o))) and one.other_line for o in origins)
            verdict = Verdict(keep=True) if on_other else verdict
        bench = self._workbench
        settled = verdict is not None and np.isin(origins, note_selection.doubtful(self._shown.outcome)).all()
        names = {"remove": tr("remove {n}"), "keep": tr("keep {n}"), "other_line": tr("other line for {n}")}
        pattern = names.get(action.removesuffix("_alike"), tr("let the stages decide on {n}"))
        name = pattern.format(n=tr("{count} notes").format(count=len(origins)) if len(origins) > 1 else tr("a note"))
        session = bench.session
        for ident, own in self._shown.whose(origins).items():
            session = edits.with_verdicts(session, ident, own, verdict)
        bench.do(name, session)
        if settled and len(origins) == 1:
            self._step_doubtful(1)

    def _is_drawn(self, ident: str) -> bool:
        ref = self._workbench.session.take(ident)
        return ref is not None and ref.kind == DRAWN

    # List, strip, selection

    def toggle_list(self) -> None:
        """Show or hide the list of events."""
        self.tools.below[takes_toolbar.LIST].trigger()

    def toggle_strip(self) -> None:
        """Show or hide the velocities below the sheet."""
        self.tools.below[takes_toolbar.STRIP].trigger()

    def toggle_steps(self) -> None:
        """Begin or end entering notes step by step."""
        self.tools.steps.click()

    def _switch_steps(self, on: bool) -> None:
        steps = self._services.steps
        steps.step = self.gestures.step()
        steps.switch(on)
        self.timeline.stepping = on

    def _show_list(self, on: bool) -> None:
        self.list.setVisible(on)
        if on:
            self.list.show_take(self._shown)
            self.list.show_selection(self.timeline.selected)

    def _show_strip(self, on: bool) -> None:
        self.strip.setVisible(on)
        if on:
            self._fill_strip()

    def _show_sound(self, on: bool) -> None:
        """The recording of the chosen take under the ruler, if its notes were heard in one."""
        picture = sound_picture(self._workbench, self._shown) if on and self._shown is not None else None
        self.sound.show_sound(picture)
        self.timeline.show_under_ruler(0 if picture is None else self.sound.height())

    def _fill_strip(self) -> None:
        if self._shown is None:
            return
        if self.strip.what == PROBABILITY and self._shown.several is not None:
            chance = self._workbench.session.path.probability.chance
            self.strip.show_notes(*probabilities(self._shown.outcome, self._shown.several, chance))
        else:
            notes = self._shown.outcome.output_notes
            notes = notes.take(notes.branch == 0)
            self.strip.show_notes(notes.start, notes.velocity, notes.origin)
        self.strip.show_selection(self.timeline.selected)

    def _draw_values(self, origins: np.ndarray, values: np.ndarray) -> None:
        """Values were drawn in the strip."""
        if self.strip.what == PROBABILITY:
            self._notes.set_probabilities(origins, values / 100.0)
        else:
            self._notes.set_velocities(origins, values)

    def _choose_listed(self, origins: np.ndarray) -> None:
        """Notes were chosen in the list."""
        self.timeline.select(origins, tell=False)
        self.trace.show_notes(self._shown, origins)
        self.strip.show_selection(origins)
        if len(origins):
            self.timeline.bring_into_view(float(self._starts(origins)[0]))
            self.timeline.bring_row_into_view(int(origins[0]))

    def ask_selection(self) -> None:
        """Show the sentence by which notes are selected."""
        self.sentence.ask()

    def _orphans(self) -> np.ndarray:
        shown = self._shown
        return np.zeros(0, np.int64) if shown is None or shown.several is None else shown.several.orphans()

    def _select_orphans(self) -> None:
        """Select edited notes that do not leave, where they were played."""
        self.choose(row_painter.BOTH)
        self._point(self._orphans())

    def _forget_orphans(self) -> None:
        """Take the edits of notes that do not leave back."""
        self._notes.take_back(self._orphans())

    def _mend(self, action: str) -> None:
        """Do with the take's beats what a key asked for."""
        if action == "half_speed":
            self.tempo.halve()
        elif action == "double_speed":
            self.tempo.double()
        elif action == "tap_beat":
            self.beat_bar.tap_now()
        else:
            self.tempo.move_downbeat(1 if action == "bars_later" else -1)

    def _step_doubtful(self, direction: int) -> None:
        """Go to the next doubtful note without a decision by the player."""
        assert self._shown is not None
        shown = self._shown
        open_ones = np.array(
            [o for o in note_selection.doubtful(shown.outcome).tolist() if shown.verdict_of(o) is None], np.int64
        )
        if not len(open_ones):
            self._workbench.message_shown.emit(tr("There are no doubtful notes left."), False)
            return
        chosen = self.timeline.selected
        now = chosen[0] if len(chosen) == 1 else (-1 if direction > 0 else open_ones[-1] + 1)
        later = open_ones[open_ones > now] if direction > 0 else open_ones[open_ones < now][::-1]
        goal = int(later[0]) if len(later) else int(open_ones[0] if direction > 0 else open_ones[-1])
        self.timeline.select(np.array([goal]))
        self.timeline.bring_into_view(float(self._starts(np.array([goal]))[0]))
        self.timeline.bring_row_into_view(goal)
        if self.tools.hear.isChecked():
            self._hear(self.timeline.selected)

    def _hear(self, origins: np.ndarray) -> None:
        """Play the selected notes in context."""
        if len(origins):
            starts = self._starts(origins)
            self._services.playback.hear(float(starts[0]) - BEFORE, float(starts[-1]) + AFTER)

    def menu(self) -> QMenu:
        """Context menu of the selected notes."""
        return note_menu.made(self, self._services, self._shown, self.timeline.selected, self.act, self.gestures.edit)

    def toggle_click_hear(self) -> None:
        """Hear a note as soon as it is clicked, or not."""
        self.hears_clicks = not self.hears_clicks
        said = tr("Each note that is clicked is heard.") if self.hears_clicks else tr("Notes are silent when clicked.")
        self._services.notices.tell(said, False)

    def _hear_click(self, origins: np.ndarray) -> None:
        """Play one note, and its recording, from its beginning to its end."""
        if not self.hears_clicks or len(origins) != 1 or self._shown is None or self._services.playback.playing:
            return
        notes = self._shown.outcome.output_notes
        mine = np.flatnonzero(notes.origin == origins[0])
        if len(mine):
            begin = float(notes.start[mine[0]])
            end = float(np.nan_to_num(notes.end[mine[0]], nan=begin + AFTER))
            self._services.playback.hear(begin, max(end, begin + SHORTEST_HEARD))

    def toggle_controls(self) -> None:
        """Show or hide the strip of controllers."""
        self.tools.below[takes_toolbar.CONTROL].toggle()

    def put_below(self, face: QWidget) -> None:
        """Give it what is played below the rows; it is shown on request."""
        self._face = face
        face.hide()
        self._below.addWidget(face)

    def toggle_face(self) -> None:
        """Show or hide the face of the chosen input below the rows."""
        self.tools.below[takes_toolbar.FACE].toggle()

    def _show_face(self, on: bool) -> None:
        if self._face is not None:
            self._face.setVisible(on)
            self.face_shown.emit(on)

    def toggle_words(self) -> None:
        """Show or hide words and markers."""
        self.tools.below[takes_toolbar.WORDS].toggle()

    def _show_words(self, on: bool) -> None:
        self.words.setVisible(on)
        if on:
            self._fill_words()

    def _fill_words(self) -> None:
        self.words.show_line(self.lyrics.line(self._shown, self.timeline.selected), self.lyrics.markers(self._shown))

    def _show_controls(self, on: bool) -> None:
        self.controls.setVisible(on)
        if on:
            self.controls.show_line()

    def _choose(self, origins: np.ndarray) -> None:
        self._hear_click(origins)
        if self.controls.isVisible():
            self.controls.show_line()
        if self.words.isVisible() and len(origins):
            self._fill_words()
        self.trace.show_notes(self._shown, origins)
        self.strip.show_selection(origins)
        self.path.show_selection(self._shown, origins)
        if self.list.isVisible():
            self.list.show_selection(origins)

    # Descriptions

    def describe(self, origin: int) -> str:
        """A note and what happened to it, in a line or two."""
        if self._shown is None or origin < 0:
            return ""
        outcome, tempo = self._shown.outcome, self._shown.take.tempo
        played = outcome.input_notes
        i = int(self._shown.row_of_origin[origin])
        code = int(played.articulation[i])
        name = spoken(outcome.vocabulary[code]) if code >= 0 else tr("unknown")
        bar, beat, _ = tempo.position(float(played.start[i]))
        bar -= 0 if self._shown.several is None else self._shown.several.bars_before
        text = tr("{name} · velocity {velocity:g} · bar {bar}, beat {beat} · note {note}").format(
            name=name, velocity=float(played.velocity[i]), bar=bar, beat=beat, note=int(played.note[i])
        )
        clean = np.flatnonzero(outcome.output_notes.origin == origin)
        if len(clean):
            notes = ", ".join(str(int(outcome.output_notes.note[c])) for c in clean)
            return tr("{text} leaves as {notes}").format(text=text, notes=notes)
        why = note_selection.reason_removed(outcome, origin)
        return tr("{text} removed: {why}").format(text=text, why=why.word if why is not None else "")

    def _hover(self, text: str) -> None:
        self.said.setText(text)
