"""Stretches: nothing that was played is in none, and pauses part them."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.analysis.phrases import rows_of, stretches

ON, OFF = b"\x99\x26\x5a", b"\x89\x26\x00"


def test_pauses_part_and_inputs_are_apart():
    rows = [(0.0, 0, b"\xb9\x04\x10"), (1.0, 0, ON), (1.1, 0, OFF), (2.0, 1, ON), (3.0, 0, ON), (3.2, 0, OFF)]
    rows += [(20.0, 0, ON), (21.5, 0, OFF), (60.0, 0, b"\xfe")]
    found = stretches(rows)
    assert [(s.begin, s.end, s.port, s.notes) for s in found] == [
        (1.0, 3.0, 0, 2),
        (2.0, 2.0, 1, 1),
        (20.0, 20.0, 0, 1),
    ]
    assert rows_of(rows, found[0]) == [(1.0, 0, ON), (1.1, 0, OFF), (3.0, 0, ON), (3.2, 0, OFF)]
    assert rows_of(rows, found[2]) == [(20.0, 0, ON), (21.5, 0, OFF)]
    assert stretches([]) == ()
    assert stretches([(0.0, 0, b"\xfe")]) == ()


@given(st.lists(st.tuples(st.floats(0, 9), st.integers(0, 2)), max_size=60))
def test_every_note_is_in_exactly_one_stretch(steps):
    at, rows = 0.0, []
    for step, port in steps:
        at += step
        rows.append((at, port, ON))
    found = stretches(rows)
    assert sum(s.notes for s in found) == len(rows)
    assert sum(sum(s.picture) for s in found) == len(rows)
    kept = sorted((t, s.port) for s in found for t, _, _ in rows_of(rows, s))
    assert kept == sorted((t, p) for t, p, _ in rows)
