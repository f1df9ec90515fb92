"""Actions on sections: made of selected bars, renamed, made longer and shorter, repeated, put in order."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QObject, Signal

from puresignal.core.export import whole_session
from puresignal.core.path.several_takes import Placed
from puresignal.core.session import playing_order, section_edits
from puresignal.core.session import session as edits
from puresignal.core.session.arrangement import Section
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import TakeRef
from puresignal.translation import tr
from puresignal.ui.state.notices import Notices
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.workbench import Workbench


class SectionActions(QObject):
    """Edits on sections, each one step of the history.

    chosen_changed  another section is chosen
    """

    chosen_changed = Signal()

    def __init__(self, workbench: Workbench, playback: Playback, notices: Notices, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench, self._playback, self._notices = workbench, playback, notices
        self.chosen = ""

    @property
    def session(self) -> Session:
        return self._workbench.session

    def get(self, ident: str = "") -> Section | None:
        """A section, by default the chosen one."""
        return section_edits.section(self.session, ident or self.chosen)

    def choose(self, ident: str) -> None:
        self.chosen = ident
        self.chosen_changed.emit()

    def _do(self, name: str, session: Session, gesture: str | None = None) -> None:
        if session != self.session:
            self._workbench.do(name, session, gesture)

    def _placed(self, session: Session, ref: TakeRef) -> Placed:
        takes = self._workbench.store.by_ident
        return whole_session.placed_take(session, ref, takes, whole_session.timeline_of(session, takes))

    def make(self) -> None:
        """A section of the bars that are selected on the ruler, or of the four from the position on."""
        timeline, playback = self._workbench.timeline, self._playback
        if playback.span is not None:
            begin, end = (playback.beat_of(second) for second in playback.span)
            first = timeline.beats_to_bar(begin + 1e-6)[0]
            last, into = timeline.beats_to_bar(max(begin, end - 1e-6))
            bars = max(1, last - first + (1 if into >= 0 else 0))
        else:
            first, bars = timeline.beats_to_bar(playback.beat_of(playback.place) + 1e-6)[0], 4
        try:
            session = section_edits.made(self.session, first, bars)
        except ValueError:
            one = section_edits.at_bar(self.session, first)
            text = tr("Bar {bar} is in “{name}” already. Sections do not overlap: make that one shorter first.")
            self._notices.tell(text.format(bar=first, name=one.name if one is not None else ""), True)
            return
        self._do(tr("make section"), session)
        made = section_edits.at_bar(self.session, first)
        self.choose(made.ident if made is not None else "")

    def rename(self, name: str, ident: str = "") -> None:
        self._do(tr("rename section"), section_edits.renamed(self.session, ident or self.chosen, name))

    def remove(self, ident: str = "") -> None:
        self._do(tr("remove section"), section_edits.removed(self.session, ident or self.chosen))

    def set_repeats(self, repeats: int, ident: str = "", gesture: str | None = None) -> None:
        session = section_edits.with_repeats(self.session, ident or self.chosen, repeats)
        self._do(tr("repeat section"), session, gesture)

    def set_bars(self, bars: int, ident: str = "") -> None:
        """Another length: bars are hidden, come back, or are inserted."""
        timeline = self._workbench.timeline
        session = section_edits.with_bars(self.session, ident or self.chosen, bars, timeline, self._placed)
        self._do(tr("change section's length"), session)

    def duplicate(self, ident: str = "") -> None:
        timeline = self._workbench.timeline
        session = section_edits.duplicated(self.session, ident or self.chosen, timeline, self._placed)
        self._do(tr("duplicate section"), session)

    def write_out(self) -> None:
        """Every repeat becomes a section of its own."""
        session = section_edits.written_out(self.session, self._workbench.timeline, self._placed)
        self._do(tr("write out repeats"), session)

    def order_text(self) -> str:
        """The playing order as it is typed; empty: as they stand."""
        names = {one.ident: one.name for one in self.session.sections}
        return ", ".join(names[ident] for ident in self.session.order if ident in names)

    def set_order(self, text: str) -> bool:
        """Play sections in another order, typed as names. Returns whether it made sense."""
        if not text.strip():
            self._do(tr("playing order"), section_edits.with_order(self.session, ()))
            return True
        try:
            order = playing_order.parsed(self.session, text)
        except KeyError as error:
            self._notices.tell(tr("There is no section called “{name}”.").format(name=error.args[0]), True)
            return False
        except ValueError as error:
            said = tr("“{part}” is no part of an order. Write it like: Verse, Chorus*2.")
            self._notices.tell(said.format(part=error), True)
            return False
        idents = tuple(ident for ident, times in order for _ in range(times))
        self._do(tr("playing order"), section_edits.with_order(self.session, idents))
        return True

    def play_alone(self, ident: str = "") -> None:
        """Play a section round and round."""
        one = self.get(ident)
        if one is None:
            return
        self.in_order(False)
        self.select(one.ident)
        self._playback.set_looping(True)
        span = self._playback.span
        if span is not None:
            self._playback.go(span[0])
        if not self._playback.playing:
            self._playback.play()

    def select(self, ident: str) -> None:
        """Select a section's bars on the ruler."""
        one = self.get(ident)
        if one is not None and not self.session.display.in_order:
            timeline, second = self._workbench.timeline, self._playback.second_of
            self._playback.set_span((
                second(timeline.bar_to_beats(one.bar)), second(timeline.bar_to_beats(one.bar + one.bars))
            ))  # fmt: skip

    def in_order(self, on: bool) -> None:
        """See and hear the bars in playing order, or as they stand."""
        if self.session.display.in_order != on:
            self._playback.stop()
            self._workbench.do(tr("playing order"), edits.with_in_order(self.session, on))

    @property
    def is_plain(self) -> bool:
        """Whether the bars are played as they stand."""
        return playing_order.is_plain(self.session)

    def names(self) -> Iterable[str]:
        return (one.name for one in playing_order.by_bar(self.session))
