"""A session of version 2 with everything that the format has opens, exports and is stored the same."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

from puresignal import cli
from puresignal.core.export import whole_session
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session.take_ref import KINDS
from puresignal.io import report, session_file

GOLDEN = Path(__file__).parent.parent / "golden" / "version2"
FILE = GOLDEN / "third-evening.puresignal"


def test_it_has_every_kind_of_take_and_comes_back_as_it_is(tmp_path):
    opened = session_file.read(FILE)
    assert (opened.notice, opened.problems) == (None, ())
    session = opened.session
    assert {ref.kind for ref in session.takes} == set(KINDS)
    assert session.take("take1").passes[2].track == "shaker"
    assert session.take("take1").verdicts[4] == Verdict(articulation="snare.rim")
    assert session.take("take1").verdicts[0].keep is True
    assert (session.key, session.loop.begin, session.order) == ("D minor", 8.0, ("verse", "chorus"))
    assert session.destination("loft").port == "loft sampler"
    assert session.inputs[0].listens == (("practice kit", 10), ("side box", 0))
    assert [take.begun for take in opened.takes if take.original is None] == [41.5, 80.0]
    takes = {take.ident: take for take in opened.takes}
    written = session_file.to_bytes(session, takes)
    (tmp_path / "again.puresignal").write_bytes(written)
    again = session_file.read(tmp_path / "again.puresignal")
    assert again.session == session
    assert session_file.to_bytes(again.session, {take.ident: take for take in again.takes}) == written


def test_its_bars_as_they_stand_are_what_they_always_were(tmp_path):
    opened = session_file.read(FILE)
    takes = {take.ident: take for take in opened.takes}
    plain = replace(opened.session, sections=(), order=())
    session_file.write(tmp_path / "plain.puresignal", plain, takes)
    assert cli.main(["export", str(tmp_path / "plain.puresignal"), "--out", str(tmp_path / "out.mid")]) == 0
    assert (tmp_path / "out.mid").read_bytes() == (GOLDEN / "third-evening.mid").read_bytes()
    made = whole_session.result(plain, takes)
    assert made.outcome.tally.balances()
    assert report.sums(made.outcome) == json.loads((GOLDEN / "third-evening-sums.json").read_text())


def test_it_is_exported_in_the_order_of_its_sections(tmp_path):
    assert cli.main(["export", str(FILE), "--out", str(tmp_path / "out.mid")]) == 0
    assert (tmp_path / "out.mid").read_bytes() == (GOLDEN / "third-evening-in-order.mid").read_bytes()
