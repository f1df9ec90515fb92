"""Actions on whole takes, wherever it is asked for: cards, timeline, menus and keys."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QObject

from puresignal.core.path.several_takes import BEATS, CLOCK, Placed
from puresignal.core.session import alternative_edits, take_edits
from puresignal.core.session import session as edits
from puresignal.core.session.arrangement import Alternatives
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import SOUND, TakeRef
from puresignal.core.timing.session_time import Timeline
from puresignal.translation import tr
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.workbench import Workbench


class TakeActions(QObject):
    """Edits on takes, each one step of the history. Without an ident they are for the chosen take."""

    def __init__(self, workbench: Workbench, playback: Playback, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench, self._playback = workbench, playback

    def ref(self, ident: str | None = None) -> TakeRef | None:
        """A take of the session."""
        return self._workbench.session.take(ident)

    def span(self, ident: str | None = None) -> tuple[float, float]:
        """Where a take begins and ends, in beats from bar 1."""
        ref = self.ref(ident)
        return (0.0, 0.0) if ref is None else take_edits.span(*self._placed(ref))

    def _placed(self, ref: TakeRef) -> tuple[Placed, Timeline]:
        return self._workbench.placed(ref)

    def _do(self, name: str, session: Session, gesture: str | None = None) -> None:
        self._workbench.do(name, session, gesture)

    def switch(self, on: bool, ident: str | None = None) -> None:
        """Bring a take into the result, or take it out."""
        ref = self.ref(ident)
        if ref is not None and ref.is_in != on:
            name = tr("bring take in") if on else tr("take out of the result")
            self._do(name, edits.with_placed(self._workbench.session, ref.ident, is_in=on))

    def follow(self, beats: bool, ident: str | None = None) -> None:
        """Follow the beats, or the clock. Where it stands now, it stays."""
        ref = self.ref(ident)
        if ref is not None and ref.follows_beats != beats:
            session = edits.with_placed(self._workbench.session, ref.ident, follows=BEATS if beats else CLOCK)
            self._do(tr("follow the beats") if beats else tr("follow the clock"), session)

    def move(self, beats: float, ident: str | None = None, gesture: str | None = None) -> None:
        """Move a take later or earlier."""
        ref = self.ref(ident)
        if ref is not None and beats:
            self._do(tr("move take"), take_edits.moved_by(self._workbench.session, ref.ident, beats), gesture)

    def move_by_bars(self, bars: int, ident: str | None = None) -> None:
        """Move a take by whole bars, also where their lengths differ."""
        ref = self.ref(ident)
        if ref is None:
            return
        timeline = self._workbench.timeline
        begin, _ = self.span(ref.ident)
        bar, into = timeline.beats_to_bar(begin)
        self.move(timeline.bar_to_beats(bar + bars) + into - begin, ref.ident)

    def move_to_bar(self, bar: int, ident: str | None = None) -> None:
        """Move a take so that it begins on a bar line."""
        ref = self.ref(ident)
        if ref is not None:
            session = take_edits.moved_to_bar(self._workbench.session, ref.ident, *self._placed(ref), bar)
            self._do(tr("move take"), session)

    def put_note_on_bar(self, second: float, bar: int, ident: str | None = None) -> None:
        """Move a take so that a note of it, at this second of its material, falls on a bar line."""
        ref = self.ref(ident)
        if ref is not None:
            session = take_edits.with_note_on_bar(self._workbench.session, ref.ident, *self._placed(ref), second, bar)
            self._do(tr("put note on a bar"), session)

    def crop(self, begin: float, end: float, ident: str | None = None, gesture: str | None = None) -> None:
        """Use only what lies between two beats from bar 1."""
        ref = self.ref(ident)
        if ref is not None and ref.kind != SOUND and not ref.passes:
            session = take_edits.cropped_to_beats(self._workbench.session, ref.ident, *self._placed(ref), begin, end)
            self._do(tr("crop take"), session, gesture)

    def crop_to_range(self, ident: str | None = None) -> bool:
        """Crop a take to the range that is selected on the ruler. Returns whether one is."""
        heard, span = self._workbench.heard, self._playback.span
        if heard is None or heard.several is None or span is None:
            return False
        begin, end = (heard.several.beat_of(second) for second in span)
        self.crop(begin, end, ident)
        return True

    def uncrop(self, ident: str | None = None) -> None:
        """Use all of a take's material again."""
        ref = self.ref(ident)
        if ref is not None:
            session = take_edits.cropped(self._workbench.session, ref.ident, None, None)
            self._do(tr("use the whole take"), session)

    def switch_pass(self, number: int, on: bool, ident: str | None = None) -> None:
        """Bring a pass of a loop recording into the result, or take it out. number: from 0."""
        name = tr("bring pass {n} in", n=number + 1) if on else tr("take pass {n} out", n=number + 1)
        self._with_pass(name, number, ident, is_in=on)

    def compare_passes(self) -> None:
        """Hear the passes of the chosen take one by one: all, then the first alone, the second, and all again."""
        ref = self.ref(None)
        if ref is None or len(ref.passes) < 2:
            self._workbench.message_shown.emit(tr("Choose a take with several passes of a loop first."), False)
            return
        inside = [i for i, one in enumerate(ref.passes) if one.is_in]
        following = inside[0] + 1 if len(inside) == 1 else 0
        passes = tuple(replace(one, is_in=following in (i, len(ref.passes))) for i, one in enumerate(ref.passes))
        session = edits.with_changed(self._workbench.session, ref.ident, passes=passes)
        self._workbench.do(tr("compare passes"), session, f"passes {ref.ident}")  # not shown
        every = following == len(ref.passes)
        said = tr("All passes are in.") if every else tr("Pass {n} of {all} alone.", n=following + 1, all=len(passes))
        self._workbench.message_shown.emit(said, False)

    def pass_to_track(self, number: int, track: str, ident: str | None = None) -> None:
        """Send all notes of a pass to a track; empty: to their own."""
        self._with_pass(tr("pass {n} to another track", n=number + 1), number, ident, track=track)

    def _with_pass(self, name: str, number: int, ident: str | None, **changed: bool | str) -> None:
        ref = self.ref(ident)
        if ref is not None and number < len(ref.passes):
            passes = tuple(
                replace(one, **changed) if i == number else one  # type: ignore[arg-type]
                for i, one in enumerate(ref.passes)
            )
            self._do(name, edits.with_changed(self._workbench.session, ref.ident, passes=passes))

    def remove_pass(self, number: int, ident: str | None = None) -> None:
        """Remove a pass from the take. What was played stays in the material."""
        ref = self.ref(ident)
        if ref is not None and number < len(ref.passes) and len(ref.passes) > 1:
            passes = tuple(one for i, one in enumerate(ref.passes) if i != number)
            name = tr("remove pass {n}", n=number + 1)
            self._do(name, edits.with_changed(self._workbench.session, ref.ident, passes=passes))

    def tracks(self) -> tuple[tuple[str, str], ...]:
        """(key, title) of the tracks of the result."""
        whole = self._workbench.whole
        return () if whole is None else tuple((one.track.key, one.title) for one in whole.tracks)

    def duplicate(self, times: int = 1, ident: str | None = None) -> None:
        """Put copies of a take behind it."""
        ref = self.ref(ident)
        if ref is not None and times > 0:
            session = take_edits.duplicated(self._workbench.session, ref.ident, *self._placed(ref), times)
            self._do(tr("duplicate take") if times == 1 else tr("repeat take"), session)

    def set_delay(self, milliseconds: float, ident: str | None = None) -> None:
        """Take another delay off than was known when a take was recorded."""
        ref = self.ref(ident)
        if ref is not None and abs(ref.delay - milliseconds / 1000) > 1e-9:
            session = self._workbench.session
            made = take_edits.with_delay(session, ref.ident, self._workbench.timeline, milliseconds / 1000)
            self._do(tr("change delay"), made)

    def rename(self, name: str, ident: str | None = None) -> None:
        ref = self.ref(ident)
        if ref is not None:
            self._do(tr("rename take"), edits.with_take_name(self._workbench.session, ref.ident, name))

    def reorder(self, by: int, ident: str | None = None) -> None:
        """Move a take up (-1) or down (1) among the cards, which show the newest first."""
        ref = self.ref(ident)
        if ref is not None:
            self._do(tr("reorder takes"), edits.with_take_moved(self._workbench.session, ref.ident, -by))

    def remove(self, ident: str | None = None) -> None:
        """Remove a take from the session. It can be put back."""
        ref = self.ref(ident)
        if ref is not None:
            session = alternative_edits.forgotten(self._workbench.session, ref.ident)
            self._do(tr("remove take"), edits.without_take(session, ref.ident))

    # Takes of the same thing

    def group(self, ident: str | None = None) -> Alternatives | None:
        """The alternatives that a take is one of; of the chosen take if it is in none, the session's first."""
        session, ref = self._workbench.session, self.ref(ident)
        own = None if ref is None else alternative_edits.group_of(session, ref.ident)
        return own or (session.alternatives[0] if session.alternatives and ident is None else None)

    def notes_takes(self) -> tuple[TakeRef, ...]:
        """The takes that have notes."""
        return tuple(ref for ref in self._workbench.session.takes if ref.kind != SOUND)

    def make_alternative(self, of: str, ident: str | None = None) -> None:
        """Make a take an alternative of another: which of them is used is chosen bar by bar."""
        ref = self.ref(ident)
        other = self.ref(of)
        if ref is not None and other is not None and ref is not other:
            session = alternative_edits.grouped(self._workbench.session, (other.ident, ref.ident), other.name)
            self._do(tr("choose bar by bar"), session)

    def no_alternative(self, ident: str | None = None) -> None:
        ref = self.ref(ident)
        if ref is not None:
            session = alternative_edits.ungrouped(self._workbench.session, ref.ident)
            self._do(tr("no longer an alternative"), session)

    def choose_for_bars(self, first: int, after: int, ident: str) -> None:
        """Use an alternative from a bar on, before another."""
        group = self.group(ident)
        if group is not None:
            session = alternative_edits.chosen(self._workbench.session, group, first, after, ident)
            self._do(tr("choose take for bars"), session)
