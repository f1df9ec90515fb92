"""The page that says what was done: every figure on it is the tally's, and nothing in it can break the page."""

from __future__ import annotations

import re
from dataclasses import replace
from html.parser import HTMLParser

import numpy as np

from puresignal.core.export import summary_html
from puresignal.core.path.cleaning_path import make_context, run
from puresignal.core.path.identify import UNMAPPED_NOTE
from puresignal.core.path.note_selection import doubtful
from puresignal.core.path.tally import Action
from puresignal.core.path.target import NO_TARGET
from puresignal.demo import demo_session as demo


class Page(HTMLParser):
    """Tables by the heading before them, and the tags that were left open."""

    def __init__(self, text: str):
        super().__init__()
        self.tables: dict[str, list[list[str]]] = {}
        self.open: list[str] = []
        self._heading = ""
        self.text = ""
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        if tag != "meta":
            self.open.append(tag)
        if tag == "tr":
            self.tables.setdefault(self._heading, []).append([])
        if tag in ("td", "th"):
            self.tables[self._heading][-1].append("")

    def handle_endtag(self, tag):
        assert self.open.pop() == tag

    def handle_startendtag(self, tag, attrs):
        pass

    def handle_data(self, data):
        self.text += data
        if self.open and self.open[-1] in ("td", "th"):
            self.tables[self._heading][-1][-1] += data
        elif self.open and self.open[-1] == "h2":
            self._heading = data


def made(name="Quarter Past Ferry"):
    session, (take,) = demo.build()
    take = replace(take, name=name)
    # Asked to be this sure, it leaves some double triggers in, and lists them.
    path = replace(session.path, doubles=replace(session.path.doubles, min_confidence=0.99999))
    context = make_context(take, session.take().source, session.target, path)
    outcome = run(take, path, context)
    return (
        take,
        context,
        outcome,
        Page(summary_html.page([summary_html.section(take, context, outcome, ["mind <this>"])])),
    )


def test_the_summary_page_accounts_for_every_note():
    take, _, outcome, page = made()
    tally = outcome.tally
    assert not page.open
    assert f"{tally.arrived} hits in, {tally.left} notes out" in page.text
    done = {(row[0], row[1]): int(row[2].replace(",", "")) for row in page.tables["What was done"][1:]}
    for word, counts in (("removed", tally.removed()), ("added", tally.added()), ("changed", tally.changed())):
        assert {key[1]: n for key, n in done.items() if key[0] == word} == {
            reason.word: n for reason, n in counts.items()
        }
    drums = page.tables["Drum by drum"][1:]
    mapped = int(np.count_nonzero(outcome.input_notes.articulation >= 0))
    assert sum(int(row[1]) for row in drums) == mapped
    listed = sum(n for why, n in tally.removed().items() if why not in (UNMAPPED_NOTE, NO_TARGET))
    assert len(page.tables["Removed"]) == listed + 1
    assert len(page.tables["Doubtful"]) == len(doubtful(outcome)) + 1 > 2
    nowhere = sum(int(row[2]) for row in page.tables["Unmapped"][1:])
    assert nowhere == tally.removed()[UNMAPPED_NOTE]
    assert len(take.events) > 1000


def test_the_picture_has_a_stroke_for_each_note_that_left_and_a_ring_for_each_taken_out():
    _, context, outcome, _ = made()
    take, *_ = made()
    text = summary_html.section(take, context, outcome, [])
    known = outcome.input_notes.articulation >= 0
    gone = np.isin(outcome.input_notes.origin, outcome.tally.origins(Action.REMOVED))
    assert len(re.findall("<circle", text)) == np.count_nonzero(known & gone)
    assert len(re.findall(r"M[\d.]+ \d+v-", text)) == np.count_nonzero(known & ~gone)


def test_names_cannot_break_the_page():
    *_, page = made('<script>alert("x")</script> & co')
    assert not page.open
    assert '<script>alert("x")</script> & co' in page.text
    assert "mind <this>" in page.text
