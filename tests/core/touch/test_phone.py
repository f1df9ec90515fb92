"""What a phone tells: only what the page sends is read, and every finger that went down goes up."""

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.touch import phone
from puresignal.core.touch.phone import (
    DOING,
    DOWN,
    UP,
    ClockFit,
    Fingers,
    Hello,
    PhoneError,
    Pong,
    Rate,
    Touch,
    Touches,
)

SCRAPS = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8) | st.sampled_from(DOING),
    lambda inner: (
        st.lists(inner, max_size=6)
        | st.dictionaries(st.sampled_from(["at", "touches", "pong", "seat", "token", "code", "x"]), inner, max_size=3)
    ),
    max_leaves=12,
)


@given(st.text(max_size=60) | st.binary(max_size=40) | SCRAPS.map(json.dumps))
def test_anything_else_is_refused(text):
    try:
        told = phone.read(text)
    except PhoneError:
        return
    assert isinstance(told, Hello | Pong | Touches)
    if isinstance(told, Touches):
        assert 0 < len(told.touches) <= phone.MOST_TOUCHES
        assert all(-8 <= one.x <= 9 and -8 <= one.y <= 9 for one in told.touches)


@given(st.integers(0, 99), st.floats(-1, 2), st.floats(-1, 2), st.none() | st.floats(0, 1), st.sampled_from(DOING))
def test_a_touch_is_read_as_it_was_told(finger, x, y, pressure, doing):
    text = json.dumps({"at": 12.5, "touches": [[doing, finger, x, y, pressure]]})
    assert phone.read(text) == Touches(12.5, (Touch(doing, finger, x, y, pressure),))


@given(st.lists(st.tuples(st.sampled_from(DOING), st.integers(0, 20)), max_size=80))
def test_every_finger_that_went_down_goes_up_once(told):
    fingers, seen = Fingers(), []
    for doing, finger in told:
        seen += fingers.follow((Touch(doing, finger, 0.5, 0.5),))
        assert len(fingers.down) <= phone.MOST_FINGERS
    seen += fingers.all_up()
    held = set()
    for one in seen:
        if one.doing == DOWN:
            held.add(one.finger)
        else:
            assert one.finger in held
            if one.doing == UP:
                held.remove(one.finger)
    assert held == set()


@given(
    st.floats(-1e6, 1e6),
    st.lists(st.tuples(st.floats(0.0005, 0.05), st.floats(0.0005, 0.05)), min_size=1, max_size=60),
)
def test_the_clock_is_as_good_as_the_quickest_round_trip(ahead, ways):
    clock, now = ClockFit(), 1000.0
    for there, back in ways:
        clock.add(now, now + there + back, (now + there + ahead) * 1000)
        now += 0.25
    best = min(there + back for there, back in ways[-phone.SAMPLES :])
    assert abs(clock.ours((now + ahead) * 1000, now + 0.2) - now) <= best / 2 + 1e-6
    assert clock.delay >= 500 * best - 1e-6
    assert clock.jitter >= 0


def test_a_clock_that_lies_moves_a_touch_by_a_quarter_of_a_second_at_most():
    clock = ClockFit()
    clock.add(10.0, 10.002, 5000.0)
    assert clock.ours(-1e9, 20.0) == 20.0 - phone.OLDEST
    assert clock.ours(1e12, 20.0) == 20.0
    assert ClockFit().ours(1.0, 20.0) == 20.0


def test_a_rate_lets_a_player_through_and_a_flood_not():
    rate = Rate(0.0)
    assert all(rate.allows(i / 700) for i in range(5000))
    flood = Rate(0.0)
    assert sum(flood.allows(0.0) for _ in range(10_000)) == pytest.approx(phone.RATE, abs=1)
