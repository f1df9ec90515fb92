"""Proposals for setting up a kit from a minute of playing: map, stands, thresholds, velocity curves.

Nothing is set here: each proposal says what it would change in the playing that it was made from.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from puresignal.core.kit.articulations import drum_of
from puresignal.core.kit.map_recognition import recognise
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Take
from puresignal.core.path.cleaning_path import CleaningPath, Outcome, make_context, run
from puresignal.core.path.crosstalk import SHAKEN
from puresignal.core.path.tally import Action
from puresignal.core.path.velocity_curve import LEAST, MOST, STRAIGHT, Shape

MAP, HAT, STANDS, THRESHOLD, CURVE = "map", "hat", "stands", "threshold", "curve"
BEFORE, AFTER = 0.008, 0.032
"""Seconds around a hit within which it shakes others."""
SHAKEN_TIMES = 2
"""Notes taken out as crosstalk between two drums from which they are taken to share a stand."""
STRAY_MOST, STRAY_GAP, STRAY_TIMES = 14.0, 8.0, 3
"""A threshold is proposed for at least so many hits up to this velocity, with a gap between them and the next."""
EVEN_HITS, EVEN_LEAST = 6, 9.0
"""Hits of a pad, and velocity steps between it and its like, from which a curve is proposed."""
FULL, TOO_WEAK = 120.0, 104.0
"""A pad whose hard hits stay below the second is stretched so that they reach the first."""
QUANTILES = (0.1, 0.5, 0.9)


@dataclass(frozen=True)
class Effect:
    """The effect of a proposal on the playing.

    hits     notes in it
    mapped   hits that leave under another articulation, or for the first time with one
    removed, kept  hits taken out that were not before, and the other way round
    changed  hits with another velocity, and the largest change in steps
    """

    hits: int
    mapped: int = 0
    removed: int = 0
    kept: int = 0
    changed: int = 0
    most: int = 0


@dataclass(frozen=True)
class Proposal:
    """One thing that can be set.

    kind       MAP, HAT, STANDS, THRESHOLD or CURVE
    drum       key of the velocity shape, for thresholds and curves
    pads       pads that the map names, or drums on each stand
    source     the map with it, for MAP, HAT and STANDS
    stands     drums that share a stand, for STANDS
    threshold, curve  of the shape
    """

    kind: str
    effect: Effect
    drum: str = ""
    pads: int = 0
    source: NoteMap | None = None
    stands: tuple[tuple[str, ...], ...] = ()
    threshold: float = 0.0
    curve: tuple[tuple[float, float], ...] = STRAIGHT


def proposals(
    take: Take, source: NoteMap | None, target: NoteMap | None, path: CleaningPath, maps: Iterable[NoteMap] = (),
    learnt: NoteMap | None = None,
) -> tuple[Proposal, ...]:  # fmt: skip
    """Proposals from the playing, each building on those before.

    source  the map in use
    maps    maps among which the kit is looked for, if it was not learnt
    learnt  the map that the player's hits on each pad gave, which counts as soft and hard on everything
    """
    found: list[Proposal] = []
    before = _played(take, source, target, path)
    best = learnt or _recognised(take, source, maps)
    if best is not None and not _alike(best, source):
        bare = best if source is None or learnt is None else replace(best, hat=source.hat or best.hat)
        after = _played(take, bare, target, path)
        found.append(Proposal(MAP, _effect(before, after), pads=len(bare.pads), source=bare))
        source, before = bare, after
    if best is not None and source is not None and best.hat is not None and best.hat != source.hat:
        turned = replace(source, hat=best.hat)
        after = _played(take, turned, target, path)
        found.append(Proposal(HAT, _effect(before, after), source=turned))
        source, before = turned, after
    if source is None:
        return tuple(found)
    stands = _stands(before, source)
    if stands:
        shared = _with_stands(source, stands)
        after = _played(take, shared, target, path)
        found.append(Proposal(STANDS, _effect(before, after), source=shared, stands=stands, pads=len(stands)))
        source, before = shared, after
    for drum, threshold in _thresholds(before):
        changed = _with_shape(path, drum, threshold=threshold)
        after = _played(take, source, target, changed)
        found.append(Proposal(THRESHOLD, _effect(before, after), drum=drum, threshold=threshold))
    for drum, curve in _curves(before, learnt is not None):
        changed = _with_shape(path, drum, curve=curve)
        after = _played(take, source, target, changed)
        found.append(Proposal(CURVE, _effect(before, after), drum=drum, curve=curve))
    return tuple(found)


def applied(
    chosen: Sequence[Proposal], source: NoteMap | None, path: CleaningPath
) -> tuple[NoteMap | None, CleaningPath]:  # fmt: skip
    """Map and path with the chosen proposals; each changes only what it is about."""
    for one in chosen:
        if one.kind == MAP and one.source is not None:
            source = one.source
        elif one.kind == HAT and source is not None and one.source is not None:
            source = replace(source, hat=one.source.hat)
        elif one.kind == STANDS and source is not None:
            source = _with_stands(source, one.stands)
        elif one.kind == THRESHOLD:
            path = _with_shape(path, one.drum, threshold=one.threshold)
        elif one.kind == CURVE:
            path = _with_shape(path, one.drum, curve=one.curve)
    return source, path


def _recognised(take: Take, source: NoteMap | None, maps: Iterable[NoteMap]) -> NoteMap | None:
    """The map that explains the playing best, if it does so better than the one in use."""
    guesses = recognise(take, [*([source] if source is not None else []), *maps])
    if not guesses or guesses[0].explained < 0.9 * max(1, guesses[0].hits):
        return None
    return guesses[0].note_map


def _alike(one: NoteMap, other: NoteMap | None) -> bool:
    """Whether two maps name the same pads."""
    if other is None:
        return False
    rows = [
        {(pad.articulation, pad.note, note_map.channel_of(pad)) for pad in note_map.pads} for note_map in (one, other)
    ]
    return rows[0] == rows[1]


def _played(take: Take, source: NoteMap | None, target: NoteMap | None, path: CleaningPath) -> Outcome:
    return run(take, path, make_context(take, source, target, path))


def _effect(before: Outcome, after: Outcome) -> Effect:
    """The difference between two results of one take."""
    first, second = _by_origin(before), _by_origin(after)
    removed, kept = len(first.keys() - second.keys()), len(second.keys() - first.keys())
    both = [(first[key], second[key]) for key in first.keys() & second.keys()]
    mapped = sum(a[0] != b[0] for a, b in both) + sum(bool(second[k][0]) for k in second.keys() - first.keys())
    steps = [abs(a[1] - b[1]) for a, b in both if round(a[1]) != round(b[1])]
    return Effect(len(after.input_notes), mapped, removed, kept, len(steps), round(max(steps, default=0)))


def _by_origin(outcome: Outcome) -> dict[int, tuple[str, float]]:
    notes = outcome.output_notes
    names = (*outcome.vocabulary, "")
    rows = zip(notes.origin.tolist(), notes.branch.tolist(), notes.articulation.tolist(), notes.velocity.tolist(),
               strict=True)  # fmt: skip
    return {origin: (names[articulation], velocity) for origin, branch, articulation, velocity in rows if not branch}


def _drums(outcome: Outcome) -> np.ndarray:
    """(played,) the drum of each hit, empty for none."""
    names = np.array([*(drum_of(name) for name in outcome.vocabulary), ""])
    return np.asarray(names[outcome.input_notes.articulation])


def _stands(outcome: Outcome, source: NoteMap) -> tuple[tuple[str, ...], ...]:
    """Drums that shake each other, joined to stands. A kick stands on the floor, as everything does: it joins none."""
    played, drums = outcome.input_notes, _drums(outcome)
    removed = np.isin(played.origin, outcome.tally.origins(Action.REMOVED, SHAKEN))
    pairs: dict[tuple[str, str], int] = {}
    for i in np.flatnonzero(removed).tolist():
        near = np.flatnonzero(
            (played.start >= played.start[i] - AFTER) & (played.start <= played.start[i] + BEFORE)
            & (played.velocity > played.velocity[i]) & (drums != drums[i]) & ~removed
        )  # fmt: skip
        if len(near):
            cause = near[np.argmax(played.velocity[near])]
            first, second = sorted((str(drums[i]), str(drums[cause])))
            pairs[first, second] = pairs.get((first, second), 0) + 1
    stand = {drum: drum for pair in pairs for drum in pair}

    def root(drum: str) -> str:
        while stand[drum] != drum:
            drum = stand[drum]
        return drum

    for (one, other), times in pairs.items():
        if times >= SHAKEN_TIMES and "kick" not in (one, other):
            stand[root(one)] = root(other)
    together: dict[str, list[str]] = {}
    for drum in sorted(stand):
        together.setdefault(root(drum), []).append(drum)
    found = tuple(sorted(tuple(drums) for drums in together.values() if len(drums) > 1))
    known = {drum_of(pad.articulation): pad.group for pad in source.pads}
    new = any(len({known.get(drum) for drum in drums}) > 1 or known.get(drums[0]) is None for drums in found)
    return found if new else ()


def _with_stands(source: NoteMap, stands: Iterable[tuple[str, ...]]) -> NoteMap:
    """The map in which drums share stands. What it says of other drums stays; stands that touch become one."""
    pads = source.pads
    for drums in stands:
        groups = {pad.group for pad in pads if drum_of(pad.articulation) in drums and pad.group}
        name = sorted(groups)[0] if groups else drums[0]
        pads = tuple(
            replace(pad, group=name) if drum_of(pad.articulation) in drums or (pad.group in groups) else pad
            for pad in pads
        )
    return replace(source, pads=pads)


def _with_shape(path: CleaningPath, drum: str, **changed: object) -> CleaningPath:
    shapes = dict(path.velocity.shapes)
    shapes[drum] = replace(shapes.get(drum, Shape()), **changed)  # type: ignore[arg-type]
    return replace(path, velocity=replace(path.velocity, on=True, shapes=tuple(sorted(shapes.items()))))


def _left(outcome: Outcome) -> dict[str, np.ndarray]:
    """By articulation the velocities, as played, of the hits that the path kept."""
    played = outcome.input_notes
    kept = np.isin(played.origin, outcome.output_notes.origin) & (played.articulation >= 0)
    return {
        outcome.vocabulary[code]: np.sort(played.velocity[kept & (played.articulation == code)]).astype(float)
        for code in np.unique(played.articulation[kept]).tolist()
    }


def _thresholds(outcome: Outcome) -> list[tuple[str, float]]:
    """Drums with very soft hits, well apart from all that was played on them: what a hand never does."""
    found = []
    drums: dict[str, list[float]] = {}
    for name, velocities in _left(outcome).items():
        drums.setdefault(drum_of(name), []).extend(velocities.tolist())
    for drum, hits in sorted(drums.items()):
        velocities = np.sort(hits)
        soft = int(np.searchsorted(velocities, STRAY_MOST, side="right"))
        # A pedal that is only closed is soft by nature.
        if drum == "hat" or not STRAY_TIMES <= soft < len(velocities) / 2:
            continue
        if velocities[soft] - velocities[soft - 1] >= STRAY_GAP:
            found.append((drum, float(velocities[soft - 1])))
    return found


def _curves(outcome: Outcome, soft_and_hard: bool) -> list[tuple[str, tuple[tuple[float, float], ...]]]:
    """Curves that even out pads that are played alike, by their quantiles; and pads whose hard hits arrive weak.

    soft_and_hard  every pad was played soft and hard, so that they can be compared with each other
    """
    hits = {name: v for name, v in _left(outcome).items() if len(v) >= EVEN_HITS}
    families: dict[str, list[str]] = {}
    for name in hits:
        families.setdefault(_like(name), []).append(name)
    found = []
    for names in families.values():
        levels = {name: np.quantile(hits[name], QUANTILES) for name in names}
        # The middle of the pads, so that one that is far off does not pull the others.
        usual = np.median(np.stack(list(levels.values())), axis=0)
        for name in names:
            wanted = usual if len(names) > 1 and (soft_and_hard or len(hits[name]) >= 3 * EVEN_HITS) else levels[name]
            if soft_and_hard and wanted[-1] < TOO_WEAK:
                wanted = wanted * (FULL / wanted[-1])
            if np.abs(wanted - levels[name]).max() >= EVEN_LEAST:
                found.append((name, _through(levels[name], wanted)))
    return sorted(found)


def _like(name: str) -> str:
    """Pads that are played alike: the heads of all toms, the bows of all crashes."""
    drum, _, part = name.partition(".")
    return f"{drum.rstrip('0123456789')}.{part}"


def _through(arrived: np.ndarray, wanted: np.ndarray) -> tuple[tuple[float, float], ...]:
    """A rising curve through the quantiles, from the softest to the hardest velocity."""
    points = [(LEAST, LEAST)]
    for x, y in zip(np.round(arrived).tolist(), np.clip(np.round(wanted), LEAST, MOST).tolist(), strict=True):
        if x > points[-1][0] and x < MOST:
            points.append((x, max(y, points[-1][1])))
    return (*points, (MOST, MOST))
