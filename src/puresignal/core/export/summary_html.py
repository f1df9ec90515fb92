"""The summary page of what was done to a take, for printing or passing on. One self-contained HTML text."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from html import escape

import numpy as np

from puresignal.core.analysis import drum_statistics
from puresignal.core.kit.articulations import drum_of, drum_title, spoken
from puresignal.core.midi.events import Take
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.context import Context
from puresignal.core.path.identify import UNMAPPED_NOTE
from puresignal.core.path.note_selection import doubtful, reason_removed
from puresignal.core.path.stage_description import Reason
from puresignal.core.path.tally import Action
from puresignal.core.path.target import NO_TARGET
from puresignal.translation import count_tr, mark, tr

_STYLE = """
@page { margin: 16mm }
body { font: 10pt/1.45 "Source Sans 3", "DejaVu Sans", sans-serif; color: #1d2529; max-width: 46em; margin: 2em auto }
h1 { font-size: 17pt; font-weight: 600; margin: 0 0 .1em } h2 { font-size: 12pt; margin: 1.6em 0 .3em }
p { margin: .2em 0 .6em } .faint { color: #5d6a70 }
table { border-collapse: collapse; width: 100% } tr { break-inside: avoid }
th { text-align: left; font-weight: 600; border-bottom: 1px solid #1d2529; padding: 2pt 8pt 2pt 0 }
td { border-bottom: 1px solid #d5dbde; padding: 2pt 8pt 2pt 0; vertical-align: top }
.n { text-align: right; font-variant-numeric: tabular-nums } h2, thead { break-after: avoid }
svg { width: 100%; display: block; margin: .4em 0 } section + section { break-before: page }
"""

_DONE = (
    (Action.REMOVED, mark("removed")),
    (Action.ADDED, mark("added")),
    (Action.CHANGED, mark("changed")),
)
_MOST_ROWS = 400


def page(sections: list[str]) -> str:
    """The whole page from one section per take."""
    return "".join(page_parts(sections))


def page_parts(sections: Iterable[str]) -> Iterator[str]:
    """The page from one section per take, in parts that need not be in memory at once."""
    yield '<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><title>' + tr("What was done") + "</title>"
    yield f"<style>{_STYLE}</style></head><body>\n"
    for section in sections:
        yield f"<section>{section}</section>\n"
    yield "</body></html>\n"


def section(take: Take, context: Context, outcome: Outcome, warnings: list[str]) -> str:
    """The section of one take: sums, a picture, drum by drum, and each doubtful decision."""
    tally = outcome.tally
    kit = context.source.name if context.source is not None else tr("no kit")
    receiver = context.target.name if context.target is not None else tr("no receiver")
    about = tr("From {kit} to {receiver} · {time} long", kit=kit, receiver=receiver, time=_time(take.length))
    balanced = tr("Every difference is accounted for below."), tr("The sums do not agree.")
    verdict = balanced[0] if tally.balances() else balanced[1]
    parts = [
        f"<h1>{escape(take.name)}</h1>",
        f'<p class="faint">{escape(about)}</p>',
        f"<p><b>{count_tr('{n} hit in', '{n} hits in', tally.arrived)}, "
        f"{count_tr('{n} note out', '{n} notes out', tally.left)}.</b> {verdict}</p>",
        _picture(take, outcome),
        _reasons(outcome),
        _drums(take, outcome),
        _doubts(take, outcome),
        _removed(take, outcome),
        _unmapped(outcome),
    ]
    if warnings or take.notices:
        rows = "".join(f"<li>{escape(text)}</li>" for text in (*take.notices, *warnings))
        parts.append(_head(tr("Warnings about the file")) + f"<ul>{rows}</ul>")
    return "\n".join(part for part in parts if part)


def _head(text: str) -> str:
    return f"<h2>{escape(text)}</h2>"


def _time(seconds: float) -> str:
    return f"{int(seconds // 60)}:{seconds % 60:04.1f}"


def _table(heads: tuple[str, ...], rows: list[tuple[object, ...]]) -> str:
    """A table; numbers are right-aligned under their headings."""
    numeric = [bool(rows) and all(isinstance(row[i], (int, float)) for row in rows) for i in range(len(heads))]
    mark = [' class="n"' if n else "" for n in numeric]
    head = "".join(f"<th{m}>{escape(h)}</th>" for h, m in zip(heads, mark, strict=True))
    body = "".join(
        "<tr>" + "".join(f"<td{m}>{escape(_cell(v))}</td>" for v, m in zip(row, mark, strict=True)) + "</tr>"
        for row in rows
    )
    return f"<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>"


def _cell(value: object) -> str:
    return f"{value:,}" if isinstance(value, int) else f"{value:.1f}" if isinstance(value, float) else str(value)


def _reasons(outcome: Outcome) -> str:
    tally = outcome.tally
    counts = {Action.REMOVED: tally.removed(), Action.ADDED: tally.added(), Action.CHANGED: tally.changed()}
    rows: list[tuple[object, ...]] = [
        (tr(word), tr(reason.word), count)
        for action, word in _DONE
        for reason, count in sorted(counts[action].items(), key=lambda item: -item[1])
    ]
    return _head(tr("What was done")) + (_table(("", "why", "notes"), rows) if rows else f"<p>{tr('Nothing.')}</p>")


def _drums(take: Take, outcome: Outcome) -> str:
    drums = np.array([drum_of(name) for name in outcome.vocabulary] or [""])
    played = outcome.input_notes
    mine = np.where(played.articulation >= 0, drums[np.maximum(played.articulation, 0)], "")
    gone = np.isin(played.origin, outcome.tally.origins(Action.REMOVED))
    rows: list[tuple[object, ...]] = []
    for one in drum_statistics.of_take(outcome, take.tempo):
        middle, timing = one.middle, one.timing
        rows.append(
            (drum_title(one.name), len(one.arrived), int(np.count_nonzero(gone & (mine == one.name))), len(one.left),
             f"{middle[0]:.0f} \N{RIGHTWARDS ARROW} {middle[1]:.0f}", f"{timing[0]:+.0f} ± {timing[1]:.0f} ms")
        )  # fmt: skip
    if not rows:
        return ""
    distance = tr("distance from the nearest sixteenth")
    heads = (tr("drum"), tr("in"), tr("removed"), tr("out"), tr("median velocity"), distance)
    return _head(tr("Drum by drum")) + _table(heads, rows)


def _place(take: Take, second: float) -> str:
    bar, beat, _ = take.tempo.position(second)
    return tr("{time} · bar {bar}, beat {beat}", time=_time(second), bar=bar, beat=beat)


def _name(outcome: Outcome, row: int) -> str:
    code = int(outcome.input_notes.articulation[row])
    return spoken(outcome.vocabulary[code]) if code >= 0 else tr("note {n}", n=int(outcome.input_notes.note[row]))


def _rows_of(outcome: Outcome, origins: np.ndarray) -> np.ndarray:
    return np.flatnonzero(np.isin(outcome.input_notes.origin, origins))


def _doubts(take: Take, outcome: Outcome) -> str:
    entries = outcome.tally.entries
    rows: list[tuple[object, ...]] = []
    for i in _rows_of(outcome, doubtful(outcome)).tolist():
        origin = int(outcome.input_notes.origin[i])
        why = reason_removed(outcome, origin)
        own = (entries.origin == origin) & (entries.action != Action.CHANGED)
        confidence = float(entries.confidence[own].min(initial=1.0))
        decision = tr("kept") if why is None else tr("removed: {reason}", reason=tr(why.word))
        place, velocity = _place(take, float(outcome.input_notes.start[i])), float(outcome.input_notes.velocity[i])
        rows.append((place, _name(outcome, i), velocity, decision, f"{100 * confidence:.0f} %"))
    if not rows:
        return ""
    heads = (tr("when"), tr("what"), tr("velocity"), tr("decision"), tr("confidence"))
    return _head(tr("Doubtful")) + _table(heads, rows[:_MOST_ROWS])


def _removed(take: Take, outcome: Outcome) -> str:
    found: list[tuple[int, Reason]] = []
    for why in outcome.tally.removed():
        # Unmapped hits are counted pad by pad further down.
        if why not in (UNMAPPED_NOTE, NO_TARGET):
            found += [(i, why) for i in _rows_of(outcome, outcome.tally.origins(Action.REMOVED, why)).tolist()]
    rows: list[tuple[object, ...]] = [
        (_place(take, float(outcome.input_notes.start[i])), _name(outcome, i), float(outcome.input_notes.velocity[i]),
         tr(why.word))
        for i, why in sorted(found)
    ]  # fmt: skip
    if not rows:
        return ""
    rest = len(rows) - _MOST_ROWS
    more = count_tr("and {n} more note; the report lists all.", "and {n} more notes; the report lists all.", rest)
    heads = (tr("when"), tr("what"), tr("velocity"), tr("why"))
    return (
        _head(tr("Removed")) + _table(heads, rows[:_MOST_ROWS]) + (f'<p class="faint">{more}</p>' if rest > 0 else "")
    )


def _unmapped(outcome: Outcome) -> str:
    counts: Counter[tuple[int, int, str]] = Counter()
    played = outcome.input_notes
    for why in (UNMAPPED_NOTE, NO_TARGET):
        for i in _rows_of(outcome, outcome.tally.origins(Action.REMOVED, why)).tolist():
            counts[int(played.channel[i]), int(played.note[i]), tr(why.word)] += 1
    if not counts:
        return ""
    rows: list[tuple[object, ...]] = [
        (tr("channel {c}, note {n}", c=c, n=n), why, k) for (c, n, why), k in counts.most_common()
    ]
    return _head(tr("Unmapped")) + _table((tr("pad"), tr("why"), tr("hits")), rows)


def _picture(take: Take, outcome: Outcome) -> str:
    """A row per drum: output notes as strokes as tall as their velocity, removed ones as open rings."""
    drums = [one.name for one in drum_statistics.of_take(outcome, take.tempo)]
    if not drums or take.length <= 0:
        return ""
    names = np.array([drum_of(name) for name in outcome.vocabulary] or [""])
    played = outcome.input_notes
    mine = np.where(played.articulation >= 0, names[np.maximum(played.articulation, 0)], "")
    gone = np.isin(played.origin, outcome.tally.origins(Action.REMOVED))
    left, width, row = 130, 870, 26
    scale = width / take.length
    out = [f'<svg viewBox="0 0 {left + width + 10} {row * len(drums) + 6}" font-size="13" role="img">']
    for place, name in enumerate(drums):
        base = row * (place + 1)
        out.append(f'<text x="0" y="{base - 4}">{escape(drum_title(name))}</text>')
        out.append(f'<path d="M{left} {base}H{left + width}" stroke="#d5dbde"/>')
        strokes, rings = [], []
        for i in np.flatnonzero(mine == name).tolist():
            x = left + float(played.start[i]) * scale
            tall = 3 + 19 * float(played.velocity[i]) / 127
            if gone[i]:
                rings.append(f'<circle cx="{x:.1f}" cy="{base - tall:.1f}" r="2.4"/>')
            else:
                strokes.append(f"M{x:.1f} {base}v{-tall:.1f}")
        out.append(f'<path d="{"".join(strokes)}" stroke="#1f5f6b" stroke-width="1.4" fill="none"/>')
        out.append(f'<g fill="none" stroke="#b3402a" stroke-width="1.2">{"".join(rings)}</g>')
    out.append("</svg>")
    legend = tr("A stroke is an output note, as tall as its velocity; a ring is a removed note.")
    return "".join(out) + f'<p class="faint">{legend}</p>'
