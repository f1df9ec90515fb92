"""How a session records: click, count-in, what starts it, where the position goes afterwards, how rounds pile up."""

from __future__ import annotations

from dataclasses import dataclass

AT_ONCE, AFTER_COUNT_IN, FIRST_HIT = "at once", "count-in", "first hit"  # not shown
STARTS = (AT_ONCE, AFTER_COUNT_IN, FIRST_HIT)
NEVER, COUNTING, RECORDING, ALWAYS = "never", "counting in", "recording", "always"  # not shown
WHENS = (NEVER, COUNTING, RECORDING, ALWAYS)
STAY, BACK = "stay", "back"
LAYER, REPLACE = "layer", "replace"
MOST_BARS = 4


@dataclass(frozen=True)
class ClickSettings:
    """The click.

    when      NEVER, only while COUNTING in, while RECORDING (and counting in), or ALWAYS while anything plays
    parts     clicks for each beat: 1, 2, 3 or 4
    level     dB against the built-in sound
    sounds    whether the built-in sound plays it
    port      name of a MIDI port that gets it as well, empty for none
    first, beat  note numbers on channel 10 for the first beat of a bar and for the others
    """

    when: str = RECORDING
    parts: int = 1
    level: float = 0.0
    sounds: bool = True
    port: str = ""
    first: int = 76
    beat: int = 77


@dataclass(frozen=True)
class RecordingSettings:
    """How a session records.

    start        AT_ONCE, AFTER_COUNT_IN or on the FIRST_HIT
    count_in     bars of click before the record point, 0 to 4
    pre_roll     bars before the record point that are played, 0 to 4
    early        beats before the record point from which what is played belongs to the take
    after        where the position goes after a recording: STAY, or BACK to where it began
    after_play   the same after playback
    rounds       of a loop: LAYER each on the ones before, or REPLACE them
    punch        record only within the range that is selected on the ruler
    in_delay     milliseconds that the input takes, taken off the times of what is recorded from now on
    out_delay    milliseconds that what plays needs to be heard, taken off as well
    """

    start: str = AFTER_COUNT_IN
    count_in: int = 1
    pre_roll: int = 0
    early: float = 0.5
    after: str = BACK
    after_play: str = STAY
    rounds: str = LAYER
    punch: bool = False
    in_delay: float = 0.0
    out_delay: float = 0.0
    click: ClickSettings = ClickSettings()
