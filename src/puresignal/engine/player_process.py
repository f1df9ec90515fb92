"""The playback process: feeds a score to the router ahead of time, by frames.

`python -m puresignal.engine.player_process FEED KNOCK CLOCK TRANSPORT PULSE MOVES LEFT SYNC FOUND READY SCORE SCORE`,
numbers of open files: FEED is a ring of messages with the frames at which they leave, KNOCK an eventfd that signals it,
CLOCK shared counters (frame, rate, nanoseconds, block), TRANSPORT shared counters with the player's state, PULSE that
of pulse.py, MOVES a ring of what the transport did (transport_log.py), LEFT one of what leaves, SYNC one of messages of
MIDI clock, FOUND and READY shared counters about JACK's transport (outside_time.py), SCORE memory that the client fills
in turn.
Commands are lines of JSON on stdin: {"score": 0 or 1, "events": n, "moved": [seconds, seconds]}, {"play": seconds,
"since": the clock's seconds at which it was there, or nothing}, {"stop": true}, {"speed": x}, {"loop": [a, b] or null},
{"first": [[output, hex], ...]}: messages sent when playback starts, {"shift": seconds} of the score before bar 1,
{"endless": whether to go on after its last note}, {"note": anything} that is kept with the moves,
{"echo": whether what is played live sounds again in the next round}; a score's "known": seconds of the clock up to
which it has what was played; {"beats": [beats, seconds]}: the table of the score's time (core/timing/beat_table.py),
{"held": {"from": output that keys are sent to, "to": output, "channel", "recipe", "bar": beats} or null},
{"clock_to": outputs} that get MIDI clock, {"follow": null, "jack", or the number of an input with MIDI clock}.
"""

from __future__ import annotations

import json
import mmap
import os
import select
import signal
import sys
import time

import numpy as np

from puresignal.core.generators.recipe import from_text
from puresignal.core.timing.beat_table import BeatTable
from puresignal.engine.outside_time import OutsideTime
from puresignal.engine.player import ROW, Player
from puresignal.engine.pulse import BEAT_EVERY, PLAYER, Pulse
from puresignal.engine.ring import Reader, Writer
from puresignal.engine.shared_counters import SharedCounters
from puresignal.engine.transport_log import TransportLog

TICK = 0.004


def main() -> int:
    feed, knock, clock_memory, transport, pulse_memory, moves, left, sync, found, ready, *scores = map(
        int, sys.argv[1:]
    )
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    log = TransportLog(Writer(moves))
    player, clock = Player(Writer(feed), SharedCounters(transport), log), SharedCounters(clock_memory)
    pulse, rest = Pulse(pulse_memory, PLAYER), b""
    heard, arrived = Reader(left), Reader(sync)
    outside = OutsideTime(player, SharedCounters(found), SharedCounters(ready))
    # A router that has just been started has no clock yet; playback starts when it does.
    wanted: tuple[float, float | None] | None = None
    while True:
        busy = player.playing or wanted is not None or player.driven
        come, _, _ = select.select([0], [], [], TICK if busy else BEAT_EVERY)
        pulse.beat()
        frame, rate, nanoseconds, block = clock.read()[:4]
        if rate:
            frame += round((time.monotonic_ns() - nanoseconds) * rate / 1e9)
            player.change_rate(rate)
        if come:
            more = os.read(0, 1 << 16)
            if not more:
                player.stop(frame)
                os.eventfd_write(knock, 1)
                return 0
            *lines, rest = (rest + more).split(b"\n")
            for line in lines:
                command = json.loads(line)
                if "note" in command:
                    log.note(time.monotonic(), command["note"])
                if "endless" in command:
                    player.endless = bool(command["endless"])
                if "shift" in command:
                    player.shift = float(command["shift"])
                if "beats" in command:
                    player.beats = BeatTable(*command["beats"])
                if "clock_to" in command:
                    player.clock_to(command["clock_to"])
                if "follow" in command:
                    arrived.read()
                    outside.follow(command["follow"])
                if "echo" in command:
                    player.held.hear(heard.read())
                    player.echo.switch(bool(command["echo"]))
                if "held" in command:
                    held = command["held"]
                    recipe = None if held is None else from_text(held["recipe"])
                    if not player.held.on:
                        heard.read()
                    source, to, channel = (held["from"], held["to"], held["channel"]) if held else (-1, -1, 1)
                    bar = float(held["bar"]) if held else 4.0
                    player.held.set_up(source, to, channel, recipe, bar)
                if "score" in command:
                    player.echo.forget(float(command.get("known", "inf")))
                    moved = command.get("moved")
                    if "loop" in command:
                        player.loop(tuple(command["loop"]) if command["loop"] else None, again=False)
                    player.use(
                        *_score(scores[command["score"]], command["events"]),
                        None if moved is None else (np.array(moved[0]), np.array(moved[1])),
                    )
                elif "loop" in command:
                    player.loop(tuple(command["loop"]) if command["loop"] else None)
                if "first" in command:
                    player.first([(output, bytes.fromhex(text)) for output, text in command["first"]])
                if "speed" in command:
                    player.speed(float(command["speed"]))
                if "play" in command:
                    wanted = float(command["play"]), command.get("since")
                if "stop" in command:
                    wanted = None
                    player.stop(frame)
        if wanted is not None and rate:
            player.play(wanted[0], frame, rate, wanted[1])
            wanted = None
        if player.driven and rate:
            outside.drive(arrived.read(), frame, rate, block)
        if (player.echo.on and player.playing) or player.held.on:
            left_now = heard.read()
            player.held.hear(left_now)
            if player.echo.on and player.playing:
                player.echo.hear(left_now, player.place_of)
        player.hand_over(frame, block)
        if player.handed():
            os.eventfd_write(knock, 1)


def _score(memory: int, events: int) -> tuple[np.ndarray, np.ndarray]:
    if not events:
        return np.zeros(0), np.zeros((0, 4), np.uint8)
    with mmap.mmap(memory, events * ROW, prot=mmap.PROT_READ) as view:
        content = view[:]
    at = np.frombuffer(content, np.float64, events)
    return at, np.frombuffer(content, np.uint8, 4 * events, 8 * events).reshape(-1, 4)


if __name__ == "__main__":
    sys.exit(main())
