"""Messages of a phone that plays the touch surface: read strictly, kept to a rate, and set to our clock."""

from __future__ import annotations

import json
from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

DOWN, MOVED, UP = "down", "moved", "up"
DOING = (DOWN, MOVED, UP)
LONGEST = 2048
"""Bytes of a message."""
MOST_TOUCHES = 16
MOST_FINGERS = 12
"""Fingers of one phone that are down at once."""
RATE = 1500.0
"""Messages a second: one a picture for what moves, and one for each touch; ten fingers need half of it at most."""
OLDEST = 0.25
"""Seconds that a touch may lie back: one that claims more is as late as this."""
SAMPLES = 40
"""Round trips that are remembered, ten seconds' worth."""


class PhoneError(ValueError):
    """A message that no page of ours sends."""


@dataclass(frozen=True)
class Touch:
    """A finger goes down, moves or goes up.

    doing     one of DOING
    finger    its number on the phone
    x, y      0..1 from the left and from the bottom
    pressure  0..1, or None where the place in the cell counts
    """

    doing: str
    finger: int
    x: float
    y: float
    pressure: float | None = None


@dataclass(frozen=True)
class Touches:
    """Touches of one moment; at: milliseconds of the phone's clock."""

    at: float
    touches: tuple[Touch, ...]


@dataclass(frozen=True)
class Pong:
    """The answer to a question for the time: its number, and milliseconds of the phone's clock."""

    number: int
    at: float


@dataclass(frozen=True)
class Hello:
    """The first message.

    how     token (of the QR code), code (typed) or seat (of a phone that comes back)
    secret  the token, the code or the seat
    """

    how: str
    secret: str


Told = Hello | Pong | Touches


def read(text: str | bytes) -> Told:
    """A message of the page.

    Raises PhoneError for anything else.
    """
    if not isinstance(text, str) or len(text) > LONGEST:
        raise PhoneError("not a message of the page")
    try:
        data = json.loads(text)
    except (ValueError, RecursionError):
        raise PhoneError("not JSON") from None
    if not isinstance(data, dict):
        raise PhoneError("not an object")
    keys = set(data)
    for how in ("token", "code", "seat"):
        if keys == {how}:
            secret = data[how]
            if not isinstance(secret, str) or len(secret) > 64 or not secret.isascii():
                raise PhoneError("not a secret")
            return Hello(how, secret)
    if keys == {"pong", "at"}:
        number = data["pong"]
        if type(number) is not int or not 0 <= number < 1 << 31:
            raise PhoneError("not a number of a question")
        return Pong(number, _number(data["at"], 0, 1e13))
    if keys == {"at", "touches"}:
        rows = data["touches"]
        if not isinstance(rows, list) or not 0 < len(rows) <= MOST_TOUCHES:
            raise PhoneError("not a list of touches")
        return Touches(_number(data["at"], 0, 1e13), tuple(_touch(row) for row in rows))
    raise PhoneError("an unknown message")


def _number(value: object, low: float, high: float) -> float:
    if not isinstance(value, int | float) or isinstance(value, bool) or not low <= value <= high:
        raise PhoneError("not a number within its range")
    return float(value)


def _touch(row: object) -> Touch:
    if not isinstance(row, list) or len(row) != 5 or row[0] not in DOING:
        raise PhoneError("not a touch")
    doing, finger, x, y, pressure = row
    if type(finger) is not int or not 0 <= finger < 1 << 31:
        raise PhoneError("not a finger")
    # A finger that slides off the page is beyond its edge.
    return Touch(
        doing, finger, _number(x, -8, 9), _number(y, -8, 9), None if pressure is None else _number(pressure, 0, 1)
    )


class Rate:
    """How many messages are left: RATE a second, and as many at once."""

    def __init__(self, now: float):
        self._left, self._since = RATE, now

    def allows(self, now: float) -> bool:
        """Whether another message may come."""
        self._left = min(RATE, self._left + RATE * max(0.0, now - self._since))
        self._since = now
        self._left -= 1
        return self._left >= 0


class ClockFit:
    """Where the phone's clock stands against ours.

    Of the last round trips the quickest tells most, since what a network adds it mostly adds one way
    (Cristian 1989, "Probabilistic clock synchronization").
    """

    def __init__(self) -> None:
        self._trips: deque[tuple[float, float]] = deque(maxlen=SAMPLES)

    def add(self, asked: float, answered: float, theirs: float) -> None:
        """A round trip: seconds of our clock at its ends, and milliseconds of theirs when it answered."""
        self._trips.append((answered - asked, (asked + answered) / 2 - theirs / 1000))

    def ours(self, theirs: float, now: float) -> float:
        """The moment of our clock at theirs, in seconds; never in the future, never older than OLDEST."""
        if not self._trips:
            return now
        return min(now, max(now - OLDEST, theirs / 1000 + min(self._trips)[1]))

    @property
    def delay(self) -> float | None:
        """Milliseconds one way: half of the middle round trip. None before the first."""
        trips = sorted(trip for trip, _ in self._trips)
        return 500 * trips[len(trips) // 2] if trips else None

    @property
    def jitter(self) -> float | None:
        """Milliseconds by which nine of ten touches are at most later than the quickest."""
        trips = sorted(trip for trip, _ in self._trips)
        return 500 * (trips[9 * (len(trips) - 1) // 10] - trips[0]) if trips else None


class Fingers:
    """The fingers of one phone, so that each that went down goes up, whatever the page forgets to say."""

    def __init__(self) -> None:
        self.down: dict[int, tuple[float, float]] = {}

    def follow(self, touches: tuple[Touch, ...]) -> tuple[Touch, ...]:
        """The touches that are possible: nothing moves or ends that is not down, and no more than MOST_FINGERS are."""
        out = []
        for one in touches:
            if one.doing == DOWN:
                if one.finger not in self.down and len(self.down) >= MOST_FINGERS:
                    continue
            elif one.finger not in self.down:
                continue
            if one.doing == UP:
                del self.down[one.finger]
            else:
                self.down[one.finger] = one.x, one.y
            out.append(one)
        return tuple(out)

    def all_up(self) -> tuple[Touch, ...]:
        """The ends of all that are down."""
        ends = tuple(Touch(UP, finger, *place) for finger, place in self.down.items())
        self.down.clear()
        return ends


def face(rows: int, columns: int, cells: Sequence[Mapping[str, object]], colours: Mapping[str, str]) -> str:
    """The message that fills the page with cells."""
    return json.dumps({"rows": rows, "columns": columns, "cells": list(cells), "colours": dict(colours)})
