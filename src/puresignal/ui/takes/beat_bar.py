"""The bar over the notes that mends and uses the beats of the chosen take."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from puresignal.translation import mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.state.take_tempo import CONFIDENT, DOUBTFUL
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.tempo_box import TempoBox

METERS: tuple[tuple[str, int, bool], ...] = (
    ("2/4", 2, False), ("3/4", 3, False), ("4/4", 4, False), ("5/4", 5, False), ("6/4", 6, False), ("7/8", 7, False),
    ("6/8", 2, True), ("12/8", 4, True),
)  # fmt: skip
"""As it is written, beats in a bar, whether they are divided in three."""


class BeatBar(QWidget):
    """The finding in words, and the buttons that mend it and use it.

    closed  the player is done with it
    """

    closed = Signal()

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("bar")
        self._tempo, self._playback = services.take_tempo, services.playback
        self.said = PlainLabel()
        self.said.setAccessibleName(tr("Beats found"))
        self.search = self._button(
            mark("Find beats"), mark("Find the beats in what the chosen take plays. Its notes stay where they are.")
        )
        self.search.clicked.connect(self._tempo.find)
        self.half = self._button("÷2", mark("Half the speed: every second beat is one ([)."), mark("Half the speed"))
        self.half.clicked.connect(self._tempo.halve)
        self.twice = self._button("×2", mark("Twice the speed: a beat between each two (])."), mark("Twice the speed"))
        self.twice.clicked.connect(self._tempo.double)
        earlier = mark("Bars begin a beat earlier (comma).")
        self.earlier = self._button("◂ bar", earlier, mark("Bars begin a beat earlier"))
        self.earlier.clicked.connect(lambda: self._tempo.move_downbeat(-1))
        later = mark("Bars begin a beat later (full stop).")
        self.later = self._button("bar ▸", later, mark("Bars begin a beat later"))
        self.later.clicked.connect(lambda: self._tempo.move_downbeat(1))
        self.meter = QComboBox()
        self.meter.setAccessibleName(tr("Meter of the take"))
        self.meter.setToolTip(tr("Meter of the take: how many beats its bars have."))
        for text, _, _ in METERS:
            self.meter.addItem(text)
        self.meter.activated.connect(lambda i: self._tempo.set_meter(METERS[i][1], METERS[i][2]))
        self.tap = self._button(
            mark("Tap along"),
            mark("Plays the take; tap this button or the key T on each beat. From the third tap on the beats follow."),
        )
        self.tap.pressed.connect(self.tap_now)
        self.rounds = self._button(
            mark("Loop it"), mark("Play the stretch that was played round and round as the loop.")
        )
        self.rounds.clicked.connect(self._tempo.loop_rounds)
        self.repeats = PlainLabel()
        self.keep = self._button(
            mark("Use as session tempo"),
            mark(
                "The session gets the tempo and meter of this take, which keeps every note where it was. "
                "Other takes that follow the beats move along."
            ),
        )
        self.keep.clicked.connect(self._tempo.use_as_session_tempo)
        self.bpm = TempoBox()
        self.bpm.setAccessibleName(tr("Steady tempo"))
        self.bpm.setToolTip(tr("The steady tempo that the take is straightened to; the session's from then on."))
        self.bpm.setFixedWidth(98)
        self.straighten = self._button(
            mark("Straighten to"),
            mark("Move the notes so that the beats are steady at this tempo. Undo brings them back."),
        )
        self.straighten.clicked.connect(lambda: self._tempo.straighten(self.bpm.value()))
        self.close_button = self._button("✕", mark("Close this bar; the beats stay with the take (G)."), mark("Close"))
        self.close_button.setFixedWidth(30)
        self.close_button.clicked.connect(self.closed.emit)

        first, second = QHBoxLayout(), QHBoxLayout()
        first.addWidget(self.said)
        first.addStretch()
        for widget in (self.half, self.twice, self.earlier, self.later, self.meter, self.tap, self.close_button):
            first.addWidget(widget)
        second.addWidget(self.search)
        second.addWidget(self.repeats)
        second.addWidget(self.rounds)
        second.addStretch()
        for used in (self.keep, self.straighten, self.bpm):
            second.addWidget(used)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 4, 12, 8)
        column.setSpacing(5)
        for row in (first, second):
            row.setSpacing(5)
            column.addLayout(row)
        self._for: object = None
        self._tempo.changed.connect(self.show_beats)
        self.show_beats()

    def _button(self, label: str, tip: str, name: str = "") -> QPushButton:
        button = QPushButton(tr(label))
        button.setToolTip(tr(tip))
        button.setAccessibleName(tr(name or label))
        return button

    def tap_now(self) -> None:
        """Start playing, or count a tap where the music is now."""
        if not self._playback.playing:
            self._tempo.end_taps()
            self._playback.play()
            self.said.setText(tr("Tap on each beat: this button, or T."))
            return
        self._tempo.tap(self._playback.heard_now())
        if self._tempo.taps < 3:
            self.said.setText(tr("{n} taps: the beats follow from the third on.", n=self._tempo.taps))

    def show_beats(self) -> None:
        """Say what is there, and offer what can be done with it."""
        if not self.isVisible() and self._for is not None:
            return
        beats, ref = self._tempo.beats(), self._tempo.ref()
        there = beats is not None and len(beats.time) > 1
        for widget in (
            self.half, self.twice, self.earlier, self.later, self.meter, self.keep, self.straighten, self.bpm,
        ):  # fmt: skip
            widget.setEnabled(there)
        self.tap.setEnabled(ref is not None)
        self.search.setEnabled(ref is not None and not self._tempo.looking)
        if self._tempo.looking:
            self.said.setText(tr("Looking for the beats…"))
        elif beats is None or not there:
            self.said.setText(
                tr("No beats known of this take.") if ref is not None else tr("Choose a take that was played.")
            )
        else:
            doubt = (
                tr("sure") if beats.confidence >= CONFIDENT
                else tr("doubtful: check the bar lines") if beats.confidence < DOUBTFUL
                else tr("fairly sure")
            )  # fmt: skip
            weak = int((beats.sure < 0.3).sum())
            text = tr("{bpm:g} BPM, {meter}, {doubt}").format(bpm=self._tempo.bpm, meter=self._tempo.meter, doubt=doubt)
            if weak:
                text += tr(" · {n} beats without a note", n=weak) if weak > 1 else tr(" · 1 beat without a note")
            self.said.setText(text)
            names = [text for text, _, _ in METERS]
            if self._tempo.meter in names:
                self.meter.setCurrentIndex(names.index(self._tempo.meter))
            if ref is not None and self._for != (ref.ident, self._tempo.bpm):
                self._for = ref.ident, self._tempo.bpm
                self.bpm.setValue(round(self._tempo.bpm))
        rounds = self._tempo.rounds() if there else None
        self.rounds.setVisible(rounds is not None)
        self.repeats.setVisible(rounds is not None)
        if rounds is not None:
            text = tr("Repeats every {n} bars from bar {bar}, {times} times:") if rounds.bars > 1 else tr(
                "Repeats every bar from bar {bar}, {times} times:"
            )  # fmt: skip
            self.repeats.setText(text.format(n=rounds.bars, bar=rounds.first + 1, times=rounds.times))
