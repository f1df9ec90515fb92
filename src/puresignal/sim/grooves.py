"""The grooves and fills that the simulated drummer knows, one bar each, sixteen steps per bar.

A step is one letter: `X` accent, `x` stroke, `o` ghost note, `f` flam, `d` drag, `r` roll over the step, `.` nothing.
For hats, the line gives the opening.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Bar:
    """One bar: a line of steps for each articulation. `choke` is the step at which a hand stops the crash."""

    name: str
    lines: tuple[tuple[str, str], ...]
    choke: int | None = None


def _bar(name: str, choke: int | None = None, /, **lines: str) -> Bar:
    return Bar(name, tuple((key.replace("_", "."), steps) for key, steps in lines.items()), choke)


COUNT = _bar("count", hat_pedal="x...x...x...x...")
QUAY = _bar(
    "quay",
    kick="X.....x.X.......",
    snare_side="....X.......X..o",
    hat_closed="X.x.X.x.X.x.X.x.",
)
CROSSING = _bar(
    "crossing",
    kick="X.....x.X.x.....",
    snare_head="....X..o.o..X..o",
    hat_closed="X.xxX.x.X.xxX...",
    hat_open="..............x.",
)
CROSSING_HALF = _bar(
    "crossing, half open",
    kick="X..x....X.x...x.",
    snare_head="....X..o....X.o.",
    hat_half="X...X...X...X...",
    hat_edge_closed="..x...x...x...x.",
)
SWELL = _bar(
    "swell",
    kick="X...x...X...x.x.",
    snare_head="....X.......X...",
    snare_rim="..........o.....",
    ride_bow="X.x.x.x.X.x.x.x.",
    ride_bell="........X.......",
    hat_pedal="....x.......x...",
)
SWELL_TURN = _bar(
    "swell, turn",
    kick="X...x...X..x..x.",
    snare_head="....X..o.o..f...",
    ride_bow="X.x.x.x.X.x.x...",
    hat_splash="..............x.",
    crash2_edge="............X...",
)
LANDING = _bar(
    "landing",
    kick="X...............",
    crash1_bow="X...............",
    snare_head="....f...d...X.xx",
    hat_closed="....x...x...x...",
)
FILL_STEPS = _bar(
    "fill, down the steps",
    kick="X.......X.......",
    snare_head="f.xxX...........",
    tom1_head="....x.Xx........",
    tom2_head="........X.xx....",
    tom3_head="............X.xX",
)
FILL_ROLL = _bar(
    "fill, roll",
    kick="X...x...x...x...",
    snare_head="r...r...x...d.X.",
    tom3_head=".............x.X",
    crash2_bow="X...............",
)
FILL_SHORT = _bar(
    "fill, short",
    kick="X.....x.X.......",
    snare_head="....X..o.o..d.xX",
    hat_closed="X.x.X.x.X.x.....",
    tom1_head=".............x..",
)
LAST = _bar("last", 6, kick="X...............", crash1_bow="X...............", crash2_bow="X...............")

GROOVES = (QUAY, CROSSING, CROSSING_HALF, SWELL, SWELL_TURN, LANDING)
FILLS = (FILL_STEPS, FILL_ROLL, FILL_SHORT)

QUARTER_PAST_FERRY = (
    COUNT,
    QUAY, QUAY, QUAY, FILL_SHORT,
    CROSSING, CROSSING, CROSSING_HALF, FILL_SHORT,
    LANDING, CROSSING, CROSSING_HALF, FILL_STEPS,
    SWELL, SWELL, SWELL, SWELL_TURN,
    SWELL, SWELL, SWELL_TURN, FILL_ROLL,
    LANDING, CROSSING, CROSSING_HALF, FILL_STEPS,
    SWELL, SWELL, SWELL_TURN, FILL_ROLL,
    LAST,
)  # fmt: skip
"""The form of the tune, thirty bars of 4/4."""
