"""Drives the player by another program's time: MIDI clock that arrives at an input, or JACK's transport.

MIDI clock is followed by nudging the tempo: the position is pulled onto the master's within a quarter of a second, so
that jitter and small corrections cut no note. JACK's transport runs on the same frames as the player, so that it
only has to begin at the right one; it is held back for a few blocks until the first messages have been handed over.
"""

from __future__ import annotations

from collections.abc import Iterable

from puresignal.core.timing.clock_follower import ClockFollower
from puresignal.engine.player import Player
from puresignal.engine.shared_counters import SharedCounters

PULLED_WITHIN = 0.25
"""Seconds within which the player comes to where the master is."""
STEER_EVERY = 0.05
STILL_GOOD = 0.0001
"""Seconds by which the player may be off before it is nudged."""
JUMP_FROM = 0.25
"""Beats by which it must be off to be moved at once."""
LATEST = 0.2
"""Seconds before now within which a first tick is where playing begins; what was due since is played at once."""
SILENT, HEARD, RUNS = range(3)
"""States of a master: nothing comes from it, its clock comes, it plays."""
STOPPED, ROLLING, LOOPING, STARTING = range(4)
"""States of JACK's transport."""
READY_AFTER = 0.05
"""Seconds that are needed to hand over the first messages."""


class ClockDrive:
    """Plays as a MIDI clock says.

    clock  what has been heard of it
    """

    def __init__(self, player: Player):
        self._player = player
        self.clock = ClockFollower()
        self._starts = 0
        self._drives = False
        self._steered = 0.0

    def hear(self, records: Iterable[tuple[float, int, bytes]], number: int) -> None:
        """Take in what has arrived. number: of the input that the clock comes from."""
        for at, port, data in records:
            if port == number:
                self.clock.hear(at, data)

    def drive(self, frame: int, rate: int) -> None:
        """Start, stop or nudge the player. frame: the clock now."""
        clock, player = self.clock, self._player
        now = frame / rate
        if not clock.running:
            if self._drives and player.playing:
                player.stop(frame)
            self._drives = False
            self._starts = clock.starts
            return
        if clock.starts != self._starts:
            self._start(frame, rate, now)
        elif self._drives and player.playing and now - self._steered >= STEER_EVERY:
            self._steered = now
            self._steer(rate)

    def _start(self, frame: int, rate: int, now: float) -> None:
        clock, player = self.clock, self._player
        if clock.waits and (clock.bpm is None or not clock.is_heard(now)):
            # Nothing says when the first tick will be; it begins when that is there.
            return
        at = clock.second_of(clock.begins) if clock.waits else clock.first_tick
        if at is None:
            at = now
        beat = clock.begins
        if at < now - LATEST:
            # It was started long ago: it goes on where the master is by now.
            at, beat = now, clock.beat_at(now)
        self._starts, self._drives, self._steered = clock.starts, True, now
        player.play_at(player.beats.second_of(beat), round(at * rate), frame, rate, self._speed(beat))

    def _speed(self, beat: float) -> float:
        bpm = self.clock.bpm
        return 1.0 if bpm is None else player_speed(self._player, beat, bpm)

    def _steer(self, rate: int) -> None:
        clock, player = self.clock, self._player
        if clock.bpm is None:
            return
        at = player.handed_to / rate
        here = player.unrolled(player.handed_to)
        beat = clock.beat_at(at)
        due = player.beats.second_of(beat)
        if abs(due - here) > JUMP_FROM * player.beats.seconds_a_beat(beat):
            player.play_at(due, player.handed_to, player.handed_to, rate, self._speed(beat))
            return
        later = player.beats.second_of(clock.beat_at(at + PULLED_WITHIN))
        if abs(player.unrolled(player.handed_to + round(PULLED_WITHIN * rate)) - later) > STILL_GOOD:
            player.steer((later - here) / PULLED_WITHIN)


def player_speed(player: Player, beat: float, bpm: float) -> float:
    """The speed at which a score is played at another tempo."""
    return player.beats.seconds_a_beat(beat) * bpm / 60.0


class TransportDrive:
    """Plays as JACK's transport says.

    found  counters that the router writes: state, frame of the transport, frame of the clock at which that is so, and
           how often any of it was more than going on
    ready  counters for the router: which of these changes the player is ready for, and the frame of the clock from
           which on the transport may begin
    """

    def __init__(self, player: Player, found: SharedCounters, ready: SharedCounters):
        self._player, self._found, self._ready = player, found, ready
        self._count = found.read()[3]
        self._drives = False

    def drive(self, frame: int, rate: int, block: int) -> None:
        """Start, stop or move the player. frame: the clock now; block: its frames."""
        state, position, at, count = self._found.read()[:4]
        if count == self._count:
            return
        self._count = count
        player = self._player
        second = position / rate + player.shift
        if state == STOPPED:
            if self._drives and player.playing:
                player.stop(frame)
            self._drives = False
        elif state == STARTING:
            begins = self._counting_in_to(second, frame, rate)
            if begins is None:
                blocks = -(-(frame + round(READY_AFTER * rate) - at) // max(1, block)) + 1
                begins = at + blocks * block
                player.play_at(second, begins, frame, rate, 1.0)
            self._drives = True
            self._ready.write(count, begins)
        elif not player.playing or not self._drives:
            # It was rolling already: in from the next moment on.
            begins = frame + round(READY_AFTER * rate)
            self._drives = True
            player.play_at(second + (begins - at) / rate, begins, frame, rate, 1.0)
        else:
            off = at - player.frame_of(second)
            if off:
                player.move_frames(off)

    def _counting_in_to(self, second: float, frame: int, rate: int) -> int | None:
        """The frame at which the player will be there by itself, since it counts in; None if it does not."""
        player = self._player
        if not player.playing or self._drives:
            return None
        begins = player.frame_of(second)
        return begins if frame <= begins <= frame + rate else None


class OutsideTime:
    """The source of time that the player follows, if any."""

    def __init__(self, player: Player, found: SharedCounters, ready: SharedCounters):
        self._player, self._found, self._ready = player, found, ready
        self._clock: ClockDrive | None = None
        self._transport: TransportDrive | None = None
        self._input = -1

    def follow(self, what: str | int | None) -> None:
        """Follow JACK's transport ("jack"), MIDI clock of an input (its number), or nothing (None)."""
        player = self._player
        if isinstance(what, int):
            # Its number may change with other inputs; what has been heard of it stays.
            self._clock = self._clock or ClockDrive(player)
            self._input = what
        else:
            self._clock = None
        self._transport = TransportDrive(player, self._found, self._ready) if what == "jack" else None
        player.driven = what is not None
        if what is None:
            player.tell_master(None, SILENT)

    def drive(self, records: Iterable[tuple[float, int, bytes]], frame: int, rate: int, block: int) -> None:
        """Let the player do what the master does. records: messages of MIDI clock; frame: the clock now."""
        if self._clock is not None:
            self._clock.hear(records, self._input)
            self._clock.drive(frame, rate)
            clock = self._clock.clock
            heard = clock.is_heard(frame / rate)
            bpm = None if clock.bpm is None or not heard else round(clock.bpm, 1)
            self._player.tell_master(bpm, RUNS if clock.running else HEARD if heard else SILENT)
        if self._transport is not None:
            self._transport.drive(frame, rate, block)
            self._player.tell_master(None, RUNS if self._found.read()[0] == ROLLING else HEARD)
