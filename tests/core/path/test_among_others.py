"""What is said of a value by the others of its group is what leaving it out gives."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.path import among_others

rows = st.lists(
    st.tuples(st.integers(0, 3), st.integers(0, 127), st.floats(-2, 2, allow_subnormal=False)), min_size=1, max_size=40
)


def columns(drawn):
    group, loud, value = (np.array(column) for column in zip(*drawn, strict=True))
    return group, loud.astype(float), value


def others(values, group, one):
    return np.array([value for i, value in enumerate(values) if i != one and group[i] == group[one]])


@given(rows)
def test_medians_are_those_of_the_others(drawn):
    group, _, value = columns(drawn)
    for one, found in enumerate(among_others.medians(value, group, 4)):
        rest = others(value, group, one)
        assert found == pytest.approx(np.median(rest) if len(rest) else value[one])


@given(rows)
def test_shares_and_spreads_are_those_of_the_others_held_near_the_usual_ones(drawn):
    group, _, value = columns(drawn)
    shares = among_others.shares(value, group, 4, 0.5, 2.0)
    spreads = among_others.spreads(value, group, 4, 0.25, 1.0)
    for one in range(len(value)):
        rest = others(value, group, one)
        assert shares[one] == pytest.approx((rest.sum() + 1.0) / (len(rest) + 2.0))
        squares = ((rest - rest.mean()) ** 2).sum() if len(rest) else 0.0
        assert spreads[one] == pytest.approx(np.sqrt((squares + 0.25**2) / (len(rest) + 1)), abs=1e-6)


@given(rows, rows)
def test_how_many_are_at_least_as_high_is_counted(drawn, asked):
    group, loud, _ = columns(drawn)
    of, than, _ = columns(asked)
    expected = [np.count_nonzero(loud[group == g] >= t) for g, t in zip(of, than, strict=True)]
    assert among_others.at_least(loud, group, than, of, 4).tolist() == expected


@given(rows)
def test_the_near_ones_are_counted_on_both_sides(drawn):
    group, loud, value = columns(drawn)
    found = among_others.near(value, loud, group, 0.5, 20.0)
    for one in range(len(value)):
        alike = (group == group[one]) & (np.abs(value - value[one]) < 0.5 - 1e-9) & (np.abs(loud - loud[one]) < 20)
        least = np.count_nonzero(alike) - 1
        alike = (group == group[one]) & (np.abs(value - value[one]) < 0.5 + 1e-9) & (np.abs(loud - loud[one]) < 20)
        assert least <= found[one] <= np.count_nonzero(alike) - 1


def test_of_very_many_near_ones_some_are_counted():
    many = np.zeros(500)
    found = among_others.near(many, many, many.astype(int), 0.1, 0.1)
    assert found.max() == 2 * among_others.FURTHEST
    assert found.min() == among_others.FURTHEST
