"""Onsets: notes gathered into events, with what tells beats and bars apart."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np

TOGETHER = 0.03
"""Seconds within which onsets are one event: a chord, or hands that do not strike at once."""


@dataclass(frozen=True, eq=False)
class Onsets:
    """Events by time.

    time    (n,) seconds, rising
    weight  (n,) how much each counts: its velocity and how many notes it has
    low     (n,) how much of a bass drum or lowest note is in it
    back    (n,) how much of a snare is in it
    ring    (n,) how much of a crash cymbal is in it
    long    (n,) seconds that it lasts
    pitch   (n, 12) pitch classes that begin
    light   (n,) how much of the other drums is in it
    lowest, highest  (n,) MIDI notes of what is pitched in it; nan where there is none
    count   (n,) notes
    """

    time: np.ndarray
    weight: np.ndarray
    low: np.ndarray
    back: np.ndarray
    ring: np.ndarray
    long: np.ndarray
    pitch: np.ndarray
    light: np.ndarray
    lowest: np.ndarray
    highest: np.ndarray
    count: np.ndarray

    def between(self, begin: int, end: int) -> Onsets:
        """The events from one number up to another."""
        here = slice(begin, end)
        return Onsets(**{column.name: getattr(self, column.name)[here] for column in fields(self)})


def onsets_of(
    start: np.ndarray, velocity: np.ndarray, note: np.ndarray, end: np.ndarray, kick: np.ndarray, snare: np.ndarray,
    pitched: np.ndarray, crash: np.ndarray | None = None,
) -> Onsets:  # fmt: skip
    """Events from notes. kick, snare, pitched, crash: (n,) bool; the other columns as in `Notes`."""
    order = np.argsort(start, kind="stable")
    start, velocity, note, end = (np.asarray(column, np.float64)[order] for column in (start, velocity, note, end))
    kick, snare, pitched = kick[order], snare[order], pitched[order]
    crash = np.zeros(len(start), bool) if crash is None else crash[order]
    if not len(start):
        nothing = np.zeros(0)
        return Onsets(
            nothing, nothing, nothing, nothing, nothing, nothing, np.zeros((0, 12)), nothing, nothing, nothing, nothing
        )
    first = np.concatenate([[True], np.diff(start) > TOGETHER])
    which = np.cumsum(first) - 1
    count = int(which[-1]) + 1
    loud = (velocity / 127.0) ** 1.2
    total = np.bincount(which, loud, count)
    time = np.bincount(which, loud * start, count) / total
    weight = 1 - np.exp(-1.3 * total)
    low, back, ring, light = np.zeros(count), np.zeros(count), np.zeros(count), np.zeros(count)
    np.maximum.at(low, which[kick], loud[kick])
    np.maximum.at(back, which[snare], loud[snare])
    np.maximum.at(ring, which[crash], loud[crash])
    others = ~(kick | snare | crash | pitched)
    np.maximum.at(light, which[others], loud[others])
    lowest, highest = np.full(count, np.nan), np.full(count, np.nan)
    np.fmin.at(lowest, which[pitched], note[pitched])
    np.fmax.at(highest, which[pitched], note[pitched])
    if pitched.any():
        there = ~np.isnan(lowest)
        # Low against what is played around it: a bass line is not all downbeats.
        floor = np.quantile(lowest[there], (0.1, 0.9))
        depth = np.clip((floor[1] - lowest) / max(1.0, floor[1] - floor[0]), 0, 1)
        low = np.maximum(low, np.where(there, 0.8 * np.nan_to_num(depth) * weight, 0.0))
    long = np.zeros(count)
    np.maximum.at(long, which, np.where(np.isnan(end), 0.1, end - start) * np.where(pitched, 1.0, 0.0))
    pitch = np.zeros((count, 12))
    pitch[which[pitched], note[pitched].astype(int) % 12] = 1.0
    notes = np.bincount(which, minlength=count).astype(float)
    return Onsets(time, weight, low, back, ring, long, pitch, light, lowest, highest, notes)
