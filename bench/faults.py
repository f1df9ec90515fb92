"""Cleaning of difficult takes: F1 on the target's notes, real hits lost by kind, faults left.

Sources of truth that share no constant: a module that draws its faults from ranges (at their width and half as wide
again; every hard stroke shakes a pad, so three in ten hits are false), one that draws them anew for each kit, pad and
pair, and one that computes them from pads, stands, floor and its own settings. Seeds 101 to 200 are none that the
defaults were chosen on, nor what the trees learnt from; takes of the last two whose faults are under 1 % or over
12 % of the hits are not counted.

`--seeds N` takes of each, `--first N` the first seed, `--source NAME` only one of them, `--live MS` judges as live and
looks so far ahead, `--ungrouped` takes the stands out of the maps, `--curve` shows how often a confidence is right,
`--knowing` adds judges that know how the module was set (support/knowing_judge.py). `--songs FOLDER` plays drum parts
by others, from the files that training/collect_music.py makes and that nothing was learnt from, instead of the drummer
that the simulators share; `--habits` adds habits of playing that look like faults (support/played_habits.py).
`--short SECONDS` judges pieces of each take alone, so many seconds long.
"""

from __future__ import annotations

import sys
from collections import Counter
from dataclasses import replace
from multiprocessing import Pool
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent))

from support import composed_drums, composed_takes, played_habits

from bench.support.knowing_judge import DrawnJudge, KnowingJudge
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Take
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.core.path.crosstalk import learn
from puresignal.core.path.tally import Action
from puresignal.io import note_map_file
from puresignal.sim import adversarial_takes, drum_module, drummer, random_faults, trigger_physics
from puresignal.sim.adversarial_takes import FaultRanges
from puresignal.sim.drum_module import Sent
from puresignal.sim.drummer import Feel, Performance

USUAL, MANY = (0.01, 0.12), (0.12, 0.45)
"""Share of faults in takes, and in those of sources that end with "many"."""
KITS = ("practice-five", "harbour-mesh", "tidewater-compact", "two-decks", "lantern-pads")


SOURCES = ("drawn", "drawn, wide", "physics", "drawn per kit")


FEWEST = 5
"""Faults of a kind in a take, of which a share says something."""
PIECES = 6
"""Short pieces of each take."""
Parts = list[composed_takes.Piece]


def made(
    source: str, seed: int, parts: Parts | None = None, habits: bool = False
) -> tuple[Sent, NoteMap, float]:  # fmt: skip
    """A take of a source with its truth, its kit and its tempo.

    parts   drum parts by others, instead of our drummer
    habits  with habits drawn by chance (support/played_habits.py)
    """
    if source.startswith("physics"):
        take = computed(seed, parts, habits, MANY if source.endswith("many") else USUAL)
        return take.sent, take.kit, take.bpm
    kit = note_map_file.shipped(KITS[seed % len(KITS)])
    if source.startswith("drawn per kit"):
        whole = performance("drawn per kit", seed, parts, habits)
        share = MANY if source.endswith("many") else USUAL
        return random_faults.perform(kit, whole, seed, *share), kit, whole.bpm
    random = np.random.default_rng([SOURCES.index(source), seed])
    played = performance("physics", seed, parts, habits) if parts or habits else None
    bpm = played.bpm if played else float(random.uniform(70, 180))
    setup = FaultRanges(width=1.0 if source == "drawn" else 1.5)
    setup = replace(setup, doubles=float(random.uniform(0.02, 0.08)), one_stand=seed % 3 == 2)
    if setup.one_stand:
        kit = replace(kit, pads=tuple(replace(pad, group="rack") for pad in kit.pads))
    if played:
        return adversarial_takes.sent(kit, played, seed, setup, random), kit, bpm
    return adversarial_takes.perform(kit, 24, bpm, 5000 + seed, setup)[0], kit, bpm


def computed(
    seed: int, parts: Parts | None = None, habits: bool = False, share: tuple[float, float] = USUAL
) -> trigger_physics.PhysicalTake:  # fmt: skip
    """A take whose faults are computed, with how the module was set. parts, habits: as in made(); share: of faults"""
    kit = note_map_file.shipped(KITS[seed % len(KITS)])
    return trigger_physics.perform(kit, performance("physics", seed, parts, habits), seed, *share)


def performance(source: str, seed: int, parts: Parts | None, habits: bool) -> Performance:
    """What is played for a source, by our drummer or as a drum part by others. parts, habits: as in made()"""
    if parts:
        played = composed_drums.performance(parts, seed)
        return played_habits.with_habits(played, seed) if habits else played
    random = np.random.default_rng([SOURCES.index(source), seed])
    bpm = float(random.uniform(70, 180))
    pool = [*adversarial_takes.HARD_BARS, *adversarial_takes.GROOVES, *adversarial_takes.FILLS]
    hand = Feel(spread_ms=float(random.uniform(2.5, 7)), loudness=float(random.uniform(0.8, 1.1)))
    bars = [pool[int(random.integers(len(pool)))] for _ in range(24)]
    played = adversarial_takes.playable(drummer.play(bars, bpm, seed, hand), random, bpm)
    return played_habits.with_habits(played, seed) if habits else played


Judged = tuple[Counter, Counter, float]
"""Real hits by kind and whether they are kept, faults likewise, and F1."""


def judge(sent: Sent, kit: NoteMap, bpm: float, path: CleaningPath) -> tuple[Judged, list[tuple[float, bool]]]:
    """What the path makes of a take; and each doubtful note's confidence, and whether it is right."""
    curve = []
    take = drum_module.to_take(sent, "t", "t", bpm, "kit")
    target = note_map_file.shipped("boathouse-room")
    if not path.crosstalk.learn:
        path = as_live(take, path, kit, target)
    context = make_context(take, kit, target, path)
    outcome = run(take, path, context)
    kept = set(outcome.output_notes.origin.tolist())
    truth = {hit.event: hit.stroke is not None for hit in sent.hits}
    e = outcome.tally.entries
    for action, right in ((Action.REMOVED, False), (Action.KEPT, True)):
        rows = (e.action == action) & np.isfinite(e.confidence) & (e.confidence < 1)
        for origin, sure in zip(e.origin[rows].tolist(), e.confidence[rows].tolist(), strict=True):
            if origin in truth:
                curve.append((sure, truth[origin] is right))
    return counted(sent, [hit.event in kept for hit in sent.hits]), curve


def as_live(take: Take, path: CleaningPath, kit: NoteMap, target: NoteMap) -> CleaningPath:
    """The path as it is live in a sitting in which as much was played before: it knows the kit from then."""
    learning = replace(path, doubles=replace(path.doubles, learn=True), crosstalk=replace(path.crosstalk, learn=True))
    context = make_context(take, kit, target, learning)
    before = [each.stage.key for each in learning.stages()].index("crosstalk")
    played = run(take, learning, context, stages=before).output_notes
    return replace(path, crosstalk=replace(path.crosstalk, kit_model=learn(played, context, path.crosstalk)))


def pieces(sent: Sent, seed: int, seconds: float) -> list[Sent]:
    """Pieces of what a module sent, with their truth."""
    random, arrived = np.random.default_rng(seed), sent.events.arrived
    return [
        _piece(sent, (arrived >= begin) & (arrived < begin + seconds))
        for begin in random.uniform(0, max(0.0, float(arrived[-1]) - seconds), PIECES)
    ]


def _piece(sent: Sent, inside: np.ndarray) -> Sent:
    number = np.cumsum(inside) - 1
    hits = tuple(hit._replace(event=int(number[hit.event])) for hit in sent.hits if inside[hit.event])
    return replace(sent, events=sent.events.take(inside), hits=hits)


def together(some: list[Judged]) -> Judged:
    """The results of a take's pieces as one."""
    real, false = sum((r for r, _, _ in some), Counter()), sum((f for _, f, _ in some), Counter())
    return real, false, f1(real, false)


def knowing(take: trigger_physics.PhysicalTake) -> Judged:
    """What a judge makes of it that knows how the module was set."""
    return counted(take.sent, (KnowingJudge(take).false <= 0.5).tolist())


def counted(sent: Sent, kept: list[bool]) -> Judged:
    real, false = Counter(), Counter()
    for hit, stays in zip(sent.hits, kept, strict=True):
        if hit.stroke is not None:
            real[hit.stroke.kind, stays] += 1
        else:
            false[hit.cause, stays] += 1
    return real, false, f1(real, false)


def f1(real: Counter, false: Counter) -> float:
    right = sum(n for (_, stays), n in real.items() if stays)
    left = right + sum(n for (_, stays), n in false.items() if stays)
    return 2 * right / max(1, left + sum(real.values()))


def table(
    source: str, seeds: range, path: CleaningPath, ungrouped: bool, with_curve: bool,
    parts: Parts | None = None, habits: bool = False, short: float = 0.0,
) -> None:  # fmt: skip
    with Pool() as pool:
        asked = ((source, seed, path, ungrouped, parts, habits, short) for seed in seeds)
        judged = [one for one in pool.starmap(made_and_judged, asked, chunksize=2) if one is not None]
    show(source, [result for result, _ in judged])
    curve = [point for _, points in judged for point in points]
    if with_curve:
        sure, right = np.array([c for c, _ in curve]), np.array([r for _, r in curve])
        for low in np.arange(0.1, 1.0, 0.1):
            inside = (sure >= low) & (sure < low + 0.1)
            if inside.sum() >= 10:
                print(f"    sure by {low:.1f} to {low + 0.1:.1f}: {right[inside].mean():.2f} right of {inside.sum()}")


def made_and_judged(
    source: str, seed: int, path: CleaningPath, ungrouped: bool, parts: Parts | None, habits: bool, short: float = 0.0
) -> tuple[Judged, list[tuple[float, bool]]] | None:
    """As judge(), of one take, or of its pieces of so many seconds; None if it does not count."""
    sent, kit, bpm = made(source, seed, parts, habits)
    if not counts(source, sent):
        return None
    if ungrouped:
        kit = replace(kit, pads=tuple(replace(pad, group=None) for pad in kit.pads))
    if not short:
        return judge(sent, kit, bpm, path)
    judged = [judge(piece, kit, bpm, path) for piece in pieces(sent, seed, short)]
    return together([result for result, _ in judged]), [point for _, points in judged for point in points]


def counts(source: str, sent: Sent) -> bool:
    share = sum(hit.stroke is None for hit in sent.hits) / max(1, len(sent.hits))
    return source not in ("physics", "drawn per kit") or USUAL[0] <= share <= USUAL[1]


def knowing_drawn(seed: int, parts: Parts | None) -> Judged | None:
    """As knowing(), of a take whose faults were drawn for its kit; None if it does not count."""
    kit = note_map_file.shipped(KITS[seed % len(KITS)])
    sent, wrong = random_faults.on_a_kit(kit, performance("drawn per kit", seed, parts, False), seed, *USUAL)
    if not counts("drawn per kit", sent):
        return None
    return counted(sent, (DrawnJudge(sent, kit, wrong).false <= 0.5).tolist())


def show(source: str, results: list[Judged]) -> None:
    real, false, scores = Counter(), Counter(), []
    for r, f, score in results:
        real += r
        false += f
        scores.append(score)
    total, kept = sum(real.values()), sum(n for (_, stays), n in real.items() if stays)
    left = sum(n for (_, stays), n in false.items() if stays)
    print(
        f"{source}: {len(scores)} takes, {total} real hits, {sum(false.values())} false ones; "
        f"F1 {2 * kept / (kept + left + total):.4f}, worst tenth {np.quantile(scores, 0.1):.4f}, "
        f"worst take {min(scores):.4f}"
    )
    lost = [1000 * sum(n for (_, stays), n in r.items() if not stays) / max(1, sum(r.values())) for r, _, _ in results]
    worst = np.quantile(lost, 0.9)
    print(f"  real hits lost: {1000 * (total - kept) / total:.2f} in 1,000, worst tenth of takes {worst:.2f}")
    for kind in sorted({k for k, _ in real}):
        lost, all_ = real[kind, False], real[kind, False] + real[kind, True]
        print(f"    {kind:<12} {lost:5d} of {all_:6d}  kept {1 - lost / all_:.4f}")
    for cause in sorted({k for k, _ in false}):
        gone, all_ = false[cause, False], false[cause, False] + false[cause, True]
        parts = [
            100 * f[cause, False] / (f[cause, False] + f[cause, True])
            for _, f, _ in results
            if f[cause, False] + f[cause, True] >= FEWEST
        ]
        worst = f", worst tenth of takes with {FEWEST} or more {np.quantile(parts, 0.1):.1f} %" if parts else ""
        print(f"    {cause:<12} removed {100 * gone / all_:.2f} % of {all_}{worst}")


def number(name: str, usual: float) -> float:
    """The number after an option, or the usual one."""
    return float(sys.argv[sys.argv.index(name) + 1]) if name in sys.argv else usual


def main() -> None:
    count, first = int(number("--seeds", 100)), int(number("--first", 101))
    path = CleaningPath()
    if "--live" in sys.argv:
        ahead = replace(path.crosstalk, lookahead_ms=number("--live", 4.0), learn=False)
        path = replace(path, doubles=replace(path.doubles, learn=False), crosstalk=ahead)
    parts = None
    if "--songs" in sys.argv:
        folder = sys.argv[sys.argv.index("--songs") + 1]
        parts = [
            piece for piece in composed_takes.pieces(Path(folder))
            if piece.drums and not piece.source.startswith(composed_takes.TAUGHT)
        ]  # fmt: skip
        if not parts:
            raise SystemExit(f"{folder}: no drum parts in its files")
    sources = [sys.argv[sys.argv.index("--source") + 1]] if "--source" in sys.argv else SOURCES
    for source in sources:
        table(
            source,
            range(first, first + count),
            path,
            "--ungrouped" in sys.argv,
            "--curve" in sys.argv,
            parts,
            "--habits" in sys.argv,
            number("--short", 0.0),
        )
    if "--knowing" in sys.argv:
        takes = [computed(seed, parts) for seed in range(first, first + count)]
        with Pool() as pool:
            drawn = pool.starmap(knowing_drawn, [(seed, parts) for seed in range(first, first + count)], chunksize=2)
        show("drawn per kit, by one that knows", [one for one in drawn if one is not None])
        show("physics, by one that knows", [knowing(take) for take in takes if counts("physics", take.sent)])


if __name__ == "__main__":
    main()
