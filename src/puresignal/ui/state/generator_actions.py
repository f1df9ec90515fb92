"""Generators: takes whose notes follow from a recipe. Made, changed, made anew, kept as notes."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import QObject

from puresignal.core.errors import BadFileError
from puresignal.core.generators.recipe import KINDS, ChordProgression, DrumPattern, Recipe, from_text, kind_of
from puresignal.core.session import generated
from puresignal.core.session.take_ref import GENERATED, TakeRef
from puresignal.io import note_map_file
from puresignal.translation import tr
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.workbench import Workbench


class GeneratorActions(QObject):
    """Edits of the chosen generated take, each one step of the history."""

    def __init__(self, workbench: Workbench, playback: Playback, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench, self._playback = workbench, playback

    @staticmethod
    def kinds() -> tuple[type[Recipe], ...]:
        return KINDS

    def ref(self) -> TakeRef | None:
        """The chosen take, if it is generated."""
        ref = self._workbench.session.take()
        return ref if ref is not None and ref.kind == GENERATED else None

    def recipe(self) -> Recipe | None:
        """Its recipe; None where it cannot be read."""
        ref = self.ref()
        if ref is None:
            return None
        try:
            return from_text(ref.recipe, ref.name)
        except BadFileError as error:
            self._workbench.message_shown.emit(str(error), True)
            return None

    def add(self, kind: str) -> None:
        """Add a generator at the bar of the position. One that needs something to listen to takes the chosen take, or
        chords that are there; without any, chords are made first."""
        bench, made = self._workbench, kind_of(kind)
        timeline = bench.timeline
        bar, _ = timeline.beats_to_bar(max(0.0, self._playback.beat_of(self._playback.place)) + 1e-6)
        beat = timeline.bar_to_beats(bar)
        session, recipe = bench.session, made()
        if made.needs_source:
            source = self._source()
            if source is None:
                session = generated.with_generator(session, ChordProgression(), tr(ChordProgression.title), beat, None)
                source = session.take()
            assert source is not None
            recipe = replace(recipe, source=source.ident)
        kit = note_map_file.shipped("general-midi") if made is DrumPattern else None
        session = generated.with_generator(session, recipe, tr(made.title), beat, kit)
        bench.do(tr("add {what}", what=tr(made.title).lower()), session)

    def _source(self) -> TakeRef | None:
        session = self._workbench.session
        chosen = session.take()
        there = generated.sources(session, "")
        pitched = [ref for ref in there if ref.source is None and (ref.is_in or ref is chosen)]
        if chosen in pitched:
            return chosen
        return next((ref for ref in reversed(pitched) if ref.kind == GENERATED), pitched[-1] if pitched else None)

    def sources(self) -> list[TakeRef]:
        """The takes that the chosen generator can listen to."""
        ref = self.ref()
        return [] if ref is None else generated.sources(self._workbench.session, ref.ident)

    def set(self, gesture: str | None = None, **changed: Any) -> None:
        """Fill blanks of the sentence anew."""
        ref, recipe = self.ref(), self.recipe()
        if ref is None or recipe is None:
            return
        made = replace(recipe, **changed)
        if made != recipe:
            bench = self._workbench
            name = tr("change {what}", what=tr(recipe.title).lower())
            bench.do(name, generated.with_recipe(bench.session, ref.ident, made), gesture)

    def other(self, by: int = 1) -> None:
        """Other notes of the same kind, or those before."""
        recipe = self.recipe()
        if recipe is not None:
            self.set(seed=max(0, recipe.seed + by))

    def keep(self) -> None:
        """Keep the notes as they are, as a drawn take."""
        ref, bench = self.ref(), self._workbench
        if ref is not None:
            bench.do(tr("keep generated notes"), generated.kept(bench.session, ref.ident))
