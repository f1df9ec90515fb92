"""Values kept alike in two processes: what is the same here is the same there, and nothing grows for ever."""

from __future__ import annotations

import socket
import threading
from dataclasses import replace
from multiprocessing.connection import Connection

import numpy as np
import pytest

from puresignal.core.export.result_maker import ResultMaker, Wanted
from puresignal.core.path.velocity_curve import Shape
from puresignal.core.session import session as edits
from puresignal.demo import demo_session as demo
from puresignal.engine.mirror import KEPT_MESSAGES, Mirror
from puresignal.engine.result_client import ResultClient
from puresignal.engine.result_process import Numbers, names


@pytest.fixture
def ends():
    ours, theirs = socket.socketpair()
    pair = Mirror(Connection(ours.detach()), 0), Mirror(Connection(theirs.detach()), 1)
    yield pair
    for one in pair:
        one.close()


def frozen(count, start=0):
    made = np.arange(start, start + count, dtype=np.int64)
    made.flags.writeable = False
    return made


def over(ends, value):
    """A value sent from one end and returned by the other: (as it is there, as it comes back)."""
    here, there = ends
    # More than a socket holds would wait for a reader.
    sending = threading.Thread(target=here.send, args=(value,))
    sending.start()
    got = there.receive()
    sending.join()
    back = threading.Thread(target=there.send, args=(got,))
    back.start()
    returned = here.receive()
    back.join()
    return got, returned


def test_what_is_frozen_is_the_same_object_again_on_both_sides(ends):
    column, small = frozen(5000), np.arange(4)
    got, back = over(ends, {"a": column, "b": column, "c": small})
    assert got["a"] is got["b"]
    assert np.array_equal(got["a"], column)
    assert not got["a"].flags.writeable
    assert got["a"].base is None
    assert back["a"] is column
    assert back["c"] is not small
    again, _ = over(ends, [column])
    assert again[0] is got["a"]


def test_what_is_not_named_any_more_is_forgotten_by_both(ends):
    here, there = ends
    over(ends, frozen(5000))
    for number in range(KEPT_MESSAGES):
        over(ends, frozen(5000, number))
    assert len(here._values) == len(there._values) <= KEPT_MESSAGES + 1
    # And it can come again.
    got, _ = over(ends, frozen(5000))
    assert got[-1] == 4999


def wanted(scale=1.0):
    session, takes = demo.build()
    shapes = (("*", Shape(scale=scale)),)
    path = replace(session.path, velocity=replace(session.path.velocity, shapes=shapes))
    return Wanted(edits.with_path(session, path), {take.ident: take for take in takes})


def same(one, other):
    for name in ("input_notes", "output_notes", "controls"):
        a, b = getattr(one, name), getattr(other, name)
        for column in a.DTYPES:
            assert np.array_equal(getattr(a, column), getattr(b, column), equal_nan=True), (name, column)
    for column in one.tally.entries.DTYPES:
        a, b = getattr(one.tally.entries, column), getattr(other.tally.entries, column)
        assert np.array_equal(a, b, equal_nan=True), column
    assert one.tally.arrived == other.tally.arrived


def test_the_process_makes_what_the_window_would_make_and_keeps_what_stays():
    client, maker, first = ResultClient(), ResultMaker(), wanted()
    session, takes = first.session, first.takes
    seen = []
    for scale in (1.0, 0.5, 0.5):
        shapes = (("*", Shape(scale=scale)),)
        path = replace(session.path, velocity=replace(session.path.velocity, shapes=shapes))
        ask = Wanted(edits.with_path(session, path), takes)
        made = client.made(ask)
        assert made is not None
        mine = maker.made(ask)
        same(made.whole[1].outcome, mine.whole[1].outcome)
        same(made.own[1].outcome, mine.own[1].outcome)
        assert made.own[0] is ask.session.take()
        seen.append(made)
    # Nothing had changed from the second to the third, and of the first what was played had stayed.
    assert seen[1].whole[1] is seen[2].whole[1]
    assert seen[0].whole[1].outcome.input_notes is seen[1].whole[1].outcome.input_notes
    client.close()


def test_a_process_that_is_gone_is_not_asked_again():
    client = ResultClient()
    assert client.made(wanted()) is not None
    client._process.kill()
    client._process.wait(5)
    assert client.made(wanted(0.7)) is None
    assert not client.works
    client.close()


def test_numbers_that_the_program_gives_otherwise_are_turned():
    stages, reasons = names()
    turned = Numbers((stages[::-1], reasons[::-1]))
    made = ResultMaker().made(wanted())
    told = turned.made(made)
    before, after = made.whole[1].outcome.tally.entries, told.whole[1].outcome.tally.entries
    assert [stages[i] for i in before.stage[:50]] == [stages[::-1][i] for i in after.stage[:50]]
    assert [reasons[i] for i in before.reason] == [reasons[::-1][i] for i in after.reason]
    assert turned.made(made).whole[1] is told.whole[1]
    assert Numbers((stages, reasons)).made(made) is made
