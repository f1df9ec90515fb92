"""The generator on held keys in the player: what is sent to it live is held, its steps are on the grid of the beats."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Protocol

from puresignal.core.generators import held_pattern
from puresignal.core.generators.held_pattern import HeldPattern
from puresignal.core.generators.recipe import Recipe
from puresignal.core.midi import messages
from puresignal.core.timing.beat_table import BeatTable


class Place(Protocol):
    """Where the player is."""

    beats: BeatTable

    def frame_at(self, second: float) -> int: ...


class HeldSteps:
    """Off until it is set up.

    source, to  numbers of the outputs that keys are sent to, and that the notes go to
    """

    def __init__(self) -> None:
        self.source = self.to = -1
        self.channel = 1
        self._pattern: HeldPattern | None = None
        self._next = 0
        # Ends that are not due yet: (frame, note).
        self._ends: list[tuple[int, int]] = []

    @property
    def on(self) -> bool:
        return self._pattern is not None

    def set_up(self, source: int, to: int, channel: int, recipe: Recipe | None, beats_a_bar: float = 4.0) -> None:
        """Play keys that are sent to one output on another; None: no more. Keys that are held stay held."""
        before = self._pattern
        self.source, self.to, self.channel = source, to, channel
        self._pattern = None if recipe is None else held_pattern.of_recipe(recipe, beats_a_bar)
        if before is not None and self._pattern is not None:
            self._pattern.held = before.held
            self._next = math.ceil(self._next * before.step / self._pattern.step - 1e-6)

    def hear(self, left: Iterable[tuple[float, int, bytes]]) -> None:
        """Take in messages that left: seconds of the clock, output, bytes."""
        pattern = self._pattern
        for _, output, data in left if pattern is not None else ():
            assert pattern is not None
            if output != self.source:
                continue
            if messages.is_note_on(data):
                pattern.press(data[1], data[2])
            elif messages.is_note_end(data):
                pattern.release(data[1])
            elif data[0] & messages.KIND == messages.CONTROL and data[1] in (120, 123):
                pattern.held.clear()

    def begin(self, second: float, beats: BeatTable) -> None:
        """Playing begins, or goes on, at a second of the score; what sounded has been ended."""
        self._ends.clear()
        if self._pattern is not None:
            step = self._pattern.step
            self._next = math.ceil(beats.beat_of(second) / step - 1e-6)

    def rows(self, up_to: int, second_of_end: float, place: Place) -> list[tuple[int, int, bytes]]:
        """(frame, output, message) of the steps up to a frame. second_of_end: of the loop, infinite without one"""
        pattern = self._pattern
        if pattern is None:
            return []
        found = []
        while True:
            beat = self._next * pattern.step + pattern.late(self._next)
            second = place.beats.second_of(beat)
            at = place.frame_at(second)
            if at > up_to or second >= second_of_end - 1e-9:
                break
            for one in pattern.at(self._next):
                after = place.frame_at(place.beats.second_of(beat + one.long))
                found += self._ended(one.note, at)
                found.append((at, self.to, bytes((messages.NOTE_ON | self.channel - 1, one.note, one.velocity))))
                self._ends.append((max(at + 1, after), one.note))
            self._next += 1
        due = [one for one in self._ends if one[0] <= up_to]
        self._ends = [one for one in self._ends if one[0] > up_to]
        found += [(at, self.to, bytes((messages.NOTE_OFF | self.channel - 1, note, 64))) for at, note in due]
        return found

    def _ended(self, note: int, frame: int) -> list[tuple[int, int, bytes]]:
        """The end of a note that is struck again while it sounds: long notes overlap their next stroke."""
        sounding = [one for one in self._ends if one[1] == note and one[0] > frame]
        self._ends = [one for one in self._ends if one not in sounding]
        return [(frame, self.to, bytes((messages.NOTE_OFF | self.channel - 1, note, 64))) for _ in sounding]
