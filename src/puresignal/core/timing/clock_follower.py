"""Follows another program's MIDI clock: tempo and position from 24 ticks to the quarter note that come with jitter.

Ticks are counted, as the standard has it: a position is a number of ticks since Start or Continue. When each was meant
comes from a straight line through the last ones, up to sixteen beats of them. The line is shortened when the last
ticks leave it, since then the tempo has changed; a tick that was lost or doubled, which moves all later ones by
exactly one, is counted again; after a gap the clock goes on where it would have been.

Times are seconds of the steady clock, positions quarter notes from bar 1.
"""

from __future__ import annotations

from collections import deque

import numpy as np

TICKS = 24
"""Ticks of a quarter note (MIDI 1.0)."""
START, CONTINUE, STOP, TICK, POSITION = 0xFA, 0xFB, 0xFC, 0xF8, 0xF2
MOST = 16 * TICKS
"""Ticks through which the line is drawn at most."""
FEWEST = 6
"""Ticks from which on there is a tempo."""
SLOWEST, FASTEST = 15.0, 500.0
"""BPM of a clock that is followed."""
LOST_AFTER = 3.0
"""Periods without a tick after which the master paused or the line to it failed: counted on by the time."""
GONE_AFTER = 4.0
"""Seconds without a tick after which a clock is no longer followed."""
STEP_OF = 12
"""Ticks after a slip by which it is recognised."""


class ClockFollower:
    """The state of a master according to its messages so far.

    running  between Start or Continue, and Stop
    starts   how often it was started, continued, or moved while running
    """

    def __init__(self) -> None:
        self.running = False
        self.starts = 0
        self._from = 0.0
        self._first = 0
        self._waits = False
        # Numbers of the last ticks, and when they came.
        self._numbers: deque[int] = deque(maxlen=MOST)
        self._came: deque[float] = deque(maxlen=MOST)
        self._since_slip = 0
        self._line: tuple[float, float, float] | None = None

    def hear(self, at: float, data: bytes) -> None:
        """A message of the master; all others than those of the clock are ignored."""
        status = data[0] if data else 0
        if status == TICK:
            self._tick(at)
        elif status == START:
            self._begin(0.0)
        elif status == CONTINUE:
            self._begin(None)
        elif status == STOP:
            if self.running and self._line is not None and not self._waits:
                self._from = max(0.0, round(self.beat_at(at) * TICKS) / TICKS)
            self.running = self._waits = False
        elif status == POSITION and len(data) == 3:
            self._from = (data[1] | data[2] << 7) / 4.0
            if self.running:
                self._begin(None)

    def _begin(self, beat: float | None) -> None:
        if beat is not None:
            self._from = beat
        self.running, self._waits = True, True
        # The next tick is the first of the position.
        self._first = self._numbers[-1] + 1 if self._numbers else 0
        self.starts += 1

    @property
    def begins(self) -> float:
        """The beat of the first tick since Start or Continue."""
        return self._from

    @property
    def bpm(self) -> float | None:
        """The master's tempo; None before it is known."""
        return None if self._line is None else 60.0 / (self._line[2] * TICKS)

    @property
    def waits(self) -> bool:
        """Whether it was started and the first tick has not come yet."""
        return self._waits

    def is_heard(self, now: float) -> bool:
        """Whether ticks come."""
        return bool(self._came) and now - self._came[-1] < GONE_AFTER

    def beat_at(self, at: float) -> float:
        """The master's position at a moment, also one to come. Meaningful while running and with a tempo."""
        if self._line is None:
            return self._from
        number, second, period = self._line
        return self._from + (number + (at - second) / period - self._first) / TICKS

    def second_of(self, beat: float) -> float | None:
        """When the master is at a beat; None before there is a tempo."""
        if self._line is None:
            return None
        number, second, period = self._line
        return second + ((beat - self._from) * TICKS + self._first - number) * period

    @property
    def first_tick(self) -> float | None:
        """When the first tick since Start came; None if it has not."""
        if not self.running or self._waits or self._first not in self._numbers:
            return None
        return self._came[self._numbers.index(self._first)]

    def _tick(self, at: float) -> None:
        number = self._numbers[-1] + 1 if self._numbers else 0
        if self._came and at < self._came[-1]:
            at = self._came[-1]
        if self._came:
            gap = at - self._came[-1]
            if self._line is not None and gap > LOST_AFTER * self._line[2]:
                if gap > GONE_AFTER:
                    self._forget()
                elif self._waits:
                    # It stood still. Until there are new ticks enough, its tempo is as before.
                    self._numbers.clear()
                    self._came.clear()
                    self._line = float(number), at, self._line[2]
                else:
                    # The master went on meanwhile: it lost its line, not its place.
                    number = max(number, round(self._line[0] + (at - self._line[1]) / self._line[2]))
            elif self._line is None and gap > 60.0 / SLOWEST / TICKS * 2:
                self._forget()
        self._numbers.append(number)
        self._came.append(at)
        self._waits = False
        self._since_slip += 1
        if self._since_slip > STEP_OF:
            self._mend_slip()
        self._draw()

    def _forget(self) -> None:
        self._numbers.clear()
        self._came.clear()
        self._line, self._since_slip = None, 0

    def _draw(self) -> None:
        """The line through the last ticks: as many of them as lie on one."""
        count = len(self._came)
        if count < FEWEST:
            return
        numbers, came = np.array(self._numbers, float), np.array(self._came)
        size = count
        while True:
            x, y = numbers[-size:], came[-size:]
            middle, centre = float(x.mean()), float(y.mean())
            spread = x - middle
            period = float(spread @ (y - centre) / (spread @ spread))
            rest = y - centre - period * spread
            if size < 2 * TICKS or not _leaves(rest):
                break
            size = max(TICKS, size // 2)
        if 60.0 / FASTEST / TICKS <= period <= 60.0 / SLOWEST / TICKS:
            self._line = middle, centre, period
        else:
            # No tempo that anything is played at: what counts is the one before.
            self._line = self._line if self._line is not None and size < TICKS else None

    def _mend_slip(self) -> None:
        """Count again where, some ticks ago, all ticks moved by one period: one was lost, or came twice."""
        if self._line is None or len(self._came) < 4 * STEP_OF:
            return
        period = self._line[2]
        numbers = np.array(list(self._numbers)[-4 * STEP_OF :], float)
        rest = np.array(list(self._came)[-4 * STEP_OF :]) - period * numbers
        step = float(np.median(rest[-STEP_OF:]) - np.median(rest[:-STEP_OF]))
        slips = round(step / period)
        if abs(slips) != 1 or abs(step - slips * period) > 0.3 * period or not _is_step(rest, slips * period):
            return
        for place in range(len(self._numbers) - STEP_OF, len(self._numbers)):
            self._numbers[place] += slips
        if self._first > self._numbers[-STEP_OF] - slips:
            self._first += slips
        self._since_slip = 0


def _is_step(rest: np.ndarray, step: float) -> bool:
    """Whether residuals, (n,) seconds, rather jumped by `step` than began to run away with another tempo."""
    jumped = rest.copy()
    jumped[-STEP_OF:] -= step
    by_step = float(jumped.var())
    at = np.arange(len(rest), dtype=float)
    by_tempo = np.inf
    for place in range(0, len(rest) - 4, 3):
        bends = np.column_stack([np.ones(len(rest)), np.maximum(0.0, at - place)])
        found, *_ = np.linalg.lstsq(bends, rest, rcond=None)
        by_tempo = min(by_tempo, float((rest - bends @ found).var()))
    return by_step < min(by_tempo, (0.3 * step) ** 2)


def _leaves(rest: np.ndarray) -> bool:
    """Whether the last ticks have left the line through all. rest: (n,) seconds that each came late."""
    quarter = len(rest) // 4
    steps = np.abs(np.diff(rest))
    noise = float(np.sqrt((steps**2).mean() / 2.0))
    # A master that sends its ticks by blocks is early and late in turns, each for some ticks, by half a block.
    block = 0.5 * float(np.percentile(steps, 99))
    for part in (rest[-TICKS:], rest[-quarter:], rest[quarter : 2 * quarter]):
        if abs(float(part.mean())) > max(block, 3.5 * noise / np.sqrt(len(part))) + 0.0004:
            return True
    return False
