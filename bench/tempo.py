"""Beats, meter and downbeats found in takes played without a click, by kind and by way; kinds held out apart.

`tempo.py [--takes N] [--first N] [--music FOLDER] [--fit N]`: N takes of each kind and way, from a number of takes on
(each number is another take), in whole bars and cut off anywhere. --music measures takes of music by others, from the
files that training/collect_music.py makes, by where it comes from. --fit learns the weights anew from N takes drawn by
chance, and with --music from the folders named learn-... too, and writes them into the program; none of the written
kinds is among them; --weigh N --music FOLDER tells what the figures and the network should count, by N takes with seeds
of their own. 2,000 drawn takes and 2,700 others take half an hour.
"""

from __future__ import annotations

import argparse
import sys
import time
from collections import defaultdict
from multiprocessing import Pool
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))

from support import composed_takes, learn_readings
from support.as_recorded import as_recorded, cut_at_both_ends, stopped_anywhere
from support.composed_takes import Piece
from support.learn_readings import onsets
from support.played_free import KINDS, WAYS, Kind, Played, f_measure, play

from puresignal.core.timing import beat_finder, reading_weights
from puresignal.io import beat_model

CUTS = {
    "whole bars": lambda played, seed: played,
    "stopped anywhere": stopped_anywhere,
    "cut at both ends": cut_at_both_ends,
}
"""How a take ends: few recordings hold whole bars."""


def right_meter(played: Played, found: beat_finder.Beats) -> bool:
    """Whether the bars are right: as long, and beginning where they do."""
    return f_measure(played.bars, found.bars) > 0.8


def fit(takes: int, pieces: list[Piece]) -> None:
    """Learn the weights anew, and write them where the program reads them."""
    drawn = learn_readings.cases(takes)
    first_aside = round(len(drawn) * (1 - learn_readings.KEPT_ASIDE))
    composed = learn_readings.composed_cases(pieces)
    weights = learn_readings.learn([*drawn[:first_aside] * learn_readings.DRAWN_COUNT, *composed])
    beats, bars = learn_readings.judge(weights, drawn[first_aside:])
    print(f"drawn takes kept aside: {len(drawn) - first_aside}, F1 {beats:.3f}, bars {bars:.3f}")
    learn_readings.write(weights, Path(reading_weights.__file__))


def measured(asked: tuple[Piece, int]) -> list[tuple[str, float, bool]]:
    """A take of music by others, in whole bars and as recorded: where it comes from, F1 of its beats, whether the bars
    are right. Nothing if hardly anything is played in it.
    """
    piece, seed = asked
    whole = composed_takes.take(piece, seed)
    rows = []
    for played in (whole, as_recorded(whole, seed)) if whole is not None else ():
        found = beat_finder.find(onsets(played), beat_model.shipped())
        rows.append((piece.source, f_measure(played.beats, found.time), right_meter(played, found)))
    return rows


def written(kind: int, way: int, number: int, ends: str) -> tuple[float, bool]:
    """A take of a written kind, as it ends: F1 of its beats, and whether the bars are right."""
    seed = 10_000 + 7919 * kind + 101 * way + number
    played = CUTS[ends](play(KINDS[kind], WAYS[way], seed), seed)
    found = beat_finder.find(onsets(played), beat_model.shipped())
    return f_measure(played.beats, found.time), right_meter(played, found)


def four_minutes(kind: Kind) -> float:
    """Seconds of the processor that four minutes of playing take, at 110 beats in a minute."""
    bpm = 110 * kind.beat
    bars = round(4 * bpm * kind.meter[1] / (4 * kind.meter[0]))
    heard = onsets(play(kind, "drift", 1, bars, bpm=bpm))
    begun = time.process_time()
    beat_finder.find(heard, beat_model.shipped())
    return time.process_time() - begun


def music(pieces: list[Piece], takes: int) -> None:
    """A table by where the music comes from."""
    chance = np.random.default_rng(1)
    asked = []
    for source in sorted({piece.source for piece in pieces}):
        mine = [piece for piece in pieces if piece.source == source]
        chosen = chance.permutation(len(mine))
        # Seeds that nothing was learnt from.
        asked += [(mine[chosen[i % len(mine)]], 100_000 + i) for i in range(takes)]
    with Pool() as pool:
        pairs = [rows for rows in pool.map(measured, asked, chunksize=4) if rows]
    for name, rows in zip(("in whole bars", "as recorded"), zip(*pairs, strict=True), strict=True):
        print(name)
        for source in sorted({row[0] for row in rows}):
            mine = [row for row in rows if row[0] == source]
            taught = "learnt from" if source.startswith(composed_takes.TAUGHT) else ""
            beats, few, bars = (
                np.mean(column) for column in zip(*((r[1], r[1] < 0.6, r[2]) for r in mine), strict=True)
            )
            print(f"{source:30} {len(mine):4} F1 {beats:.3f}  below 0.6 {few:.2f}  bars {bars:.2f}  {taught}")
        aside = [row for row in rows if not row[0].startswith(composed_takes.TAUGHT)]
        if aside:
            beats, bars = np.mean([row[1] for row in aside]), np.mean([row[2] for row in aside])
            print(f"nothing learnt from: {len(aside)} takes, F1 {beats:.3f}, bars {bars:.3f}")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--takes", type=int, default=1)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--fit", type=int, default=0)
    parser.add_argument("--weigh", type=int, default=0)
    parser.add_argument("--music", type=Path)
    options = parser.parse_args()
    pieces = composed_takes.pieces(options.music) if options.music else []
    if options.fit:
        fit(options.fit, pieces)
        return
    if options.weigh:
        print("the figures and the network count", learn_readings.weigh_judges(options.weigh, pieces).round(3))
        return
    if pieces:
        music(pieces, 60 * options.takes)
        return
    asked = [
        (k, w, n + options.first) for k in range(len(KINDS)) for w in range(len(WAYS)) for n in range(options.takes)
    ]
    by_kind: dict[str, list[tuple[float, bool]]] = defaultdict(list)
    by_way: dict[str, list[tuple[float, bool]]] = defaultdict(list)
    with Pool() as pool:
        rows_of = {name: pool.starmap(written, [(*one, name) for one in asked], chunksize=4) for name in CUTS}
    for (k, w, _), row in zip(asked, rows_of["whole bars"], strict=True):
        by_kind[KINDS[k].name].append(row)
        by_way[WAYS[w]].append(row)
    for kind in KINDS:
        rows = by_kind[kind.name]
        mean, low = np.mean([r[0] for r in rows]), min(r[0] for r in rows)
        held = "held out" if kind.held_out else ""
        print(f"{kind.name:22} {mean:.3f} lowest {low:.2f}  bars {np.mean([r[1] for r in rows]):.2f}  {held}")
    for way, rows in by_way.items():
        print(f"{way:22} {np.mean([r[0] for r in rows]):.3f}  bars {np.mean([r[1] for r in rows]):.2f}")
    for name, held in (("kinds that were known", False), ("kinds held out", True)):
        rows = [row for kind in KINDS if kind.held_out is held for row in by_kind[kind.name]]
        few = sum(r[0] < 0.6 for r in rows)
        print(f"{name}: {len(rows)} takes, F1 {np.mean([r[0] for r in rows]):.3f}, {few} below 0.6, "
              f"bars {np.mean([r[1] for r in rows]):.3f}")  # fmt: skip
    for name, rows in rows_of.items():
        few = sum(r[0] < 0.6 for r in rows)
        print(f"all takes, {name}: F1 {np.mean([r[0] for r in rows]):.3f}, {few} below 0.6, "
              f"bars {np.mean([r[1] for r in rows]):.3f}")  # fmt: skip
    seconds = [four_minutes(kind) for kind in KINDS[::4]]
    print(f"four minutes take {np.mean(seconds):.2f} s on the mean, {max(seconds):.2f} s at most")


if __name__ == "__main__":
    main()
