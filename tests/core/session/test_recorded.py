"""What was recorded to the transport lies where it was played, round after round, whatever the tempo did."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.path.several_takes import BEATS, Placed, Round
from puresignal.core.session import recorded
from puresignal.core.session.recorded import MOVED, PLAY, ROUND, STOP, Move
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline
from tests.core.path.test_several_takes import file_take

GLIDE = Timeline((TempoPoint(0, 90, True), TempoPoint(8, 140), TempoPoint(12, 100)), (MeterPoint(1, 4, 4),))
CLOCK = 5000.0


def seconds(timeline, *beats):
    return timeline.beats_to_seconds(np.array(beats, float))


def placed_beats(layout, timeline, clock):
    """Beats from bar 1 at which what came at seconds of the clock stands in the session."""
    rounds = tuple(Round(one.begin, one.end, one.beat, one.is_in) for one in layout.passes)
    take = file_take([(0, 40, 100, 100)], channel=2)
    placed = Placed(take, beat=layout.beat, follows=BEATS, grid=layout.grid, rounds=rounds)
    return timeline.seconds_to_beats(placed.seconds(np.asarray(clock, float) - layout.begin, timeline))


def looped(timeline, begin, end, rounds, point=None, speed=1.0):
    """Moves of a transport that plays from a point into a loop, and the seconds of the clock of its rounds."""
    point = begin if point is None else point
    a, b, p = seconds(timeline, begin, end, point).tolist()
    moves = [Move(CLOCK, PLAY, point, speed)]
    at = CLOCK + (b - p) / speed
    for _ in range(rounds - 1):
        moves.append(Move(at, ROUND, begin, speed))
        at += (b - a) / speed
    return [*moves, Move(at, STOP, end, speed)]


@given(st.floats(0, 12), st.floats(0.5, 1.0), st.lists(st.floats(-0.4, 10), min_size=1, max_size=8))
@settings(deadline=None)
def test_without_a_loop_every_hit_stands_at_the_beat_that_was_heard(point, speed, beats):
    zero = float(seconds(GLIDE, point)[0])
    played = np.array([point + beat for beat in beats])
    clock = CLOCK + (seconds(GLIDE, *played) - zero) / speed
    moves = [Move(CLOCK, PLAY, point, speed), Move(CLOCK + 60.0, STOP, 0.0)]
    layout = recorded.layout(moves, GLIDE)
    assert layout.passes == ()
    assert placed_beats(layout, GLIDE, clock) == pytest.approx(played, abs=0.002)


@given(st.sampled_from([(0.0, 4.0), (4.0, 12.0), (6.0, 14.0)]), st.integers(2, 5), st.floats(0.6, 1.0))
@settings(deadline=None)
def test_rounds_lie_over_each_other_to_the_frame(span, rounds, speed):
    begin, end = span
    moves = looped(GLIDE, begin, end, rounds, speed=speed)
    layout = recorded.layout(moves, GLIDE)
    assert len(layout.passes) == rounds
    starts = [move.at for move in moves[:-1]]
    wanted = np.linspace(begin, end - 0.3, 7)
    for start in starts:
        clock = start + (seconds(GLIDE, *wanted) - seconds(GLIDE, begin)[0]) / speed
        there = placed_beats(layout, GLIDE, clock)
        assert seconds(GLIDE, *there) == pytest.approx(seconds(GLIDE, *wanted), abs=1 / 48_000 + 2e-5)


def test_a_hit_a_hair_before_the_loop_point_belongs_to_the_round_it_begins():
    moves = looped(Timeline.steady(120), 0.0, 4.0, 3)
    layout = recorded.layout(moves, Timeline.steady(120))
    hair = moves[1].at - 0.03
    assert placed_beats(layout, Timeline.steady(120), [hair])[0] == pytest.approx(-0.06, abs=1e-3)
    # Well before it, it belongs to the round that ends.
    assert placed_beats(layout, Timeline.steady(120), [moves[1].at - 0.2])[0] == pytest.approx(3.6, abs=1e-3)


def test_what_was_played_up_to_half_a_beat_before_the_record_point_is_in_it():
    layout = recorded.layout([Move(CLOCK, PLAY, 8.0), Move(CLOCK + 4, STOP, 16.0)], Timeline.steady(120), early=0.5)
    assert layout.begin == pytest.approx(CLOCK - 0.25)
    assert layout.beat == 7.5
    assert layout.end == CLOCK + 4


def test_after_a_count_in_the_recording_begins_at_the_record_point():
    moves = [Move(CLOCK, PLAY, -4.0), Move(CLOCK + 10, STOP, 16.0)]
    layout = recorded.layout(moves, Timeline.steady(120), early=0.5, first=0.0)
    assert layout.begin == pytest.approx(CLOCK + 2.0 - 0.25)
    assert layout.beat == -0.5


def test_a_delay_is_taken_off():
    moves = [Move(CLOCK, PLAY, 0.0), Move(CLOCK + 10, STOP, 20.0)]
    layout = recorded.layout(moves, Timeline.steady(120), delay=0.02)
    assert placed_beats(layout, Timeline.steady(120), [CLOCK + 1.02])[0] == pytest.approx(2.0, abs=1e-3)


def test_a_tempo_that_changed_while_recording_leaves_hits_on_the_beats_that_were_heard():
    slow, fast = Timeline.steady(60), Timeline.steady(120)
    moves = [Move(CLOCK, PLAY, 0.0), Move(CLOCK + 4, MOVED, 4.0, 1.0, fast), Move(CLOCK + 8, STOP, 12.0)]
    layout = recorded.layout(moves, slow)
    assert placed_beats(layout, fast, [CLOCK + 3, CLOCK + 5]) == pytest.approx([3.0, 6.0], abs=1e-3)


def test_what_never_played_is_no_recording():
    assert recorded.layout([Move(CLOCK, STOP, 0.0)], Timeline.steady(120)) is None


def test_stopped_before_it_played_what_was_played_early_is_there():
    layout = recorded.layout([Move(CLOCK, PLAY, 4.0), Move(CLOCK - 0.01, STOP, 4.0)], Timeline.steady(120), early=1.0)
    assert (layout.begin, layout.end, layout.beat) == pytest.approx((CLOCK - 0.5, CLOCK - 0.01, 3.0))


def test_passes_with_nothing_in_them_leave_no_trace():
    layout = recorded.layout(looped(Timeline.steady(120), 0.0, 4.0, 4), Timeline.steady(120))
    kept = recorded.with_events_only(layout.passes, np.array([layout.passes[2].begin + 0.4]))
    assert kept == (layout.passes[2],)


def test_a_stretch_that_was_not_recorded_lies_where_it_was_played():
    moves = [Move(CLOCK, PLAY, 0.0), Move(CLOCK + 60, STOP, 0.0)]
    [layout] = recorded.stretches_of(moves, Timeline.steady(120), CLOCK + 3.0, CLOCK + 5.0)
    assert (layout.begin, layout.end, layout.beat) == pytest.approx((CLOCK + 3.0, CLOCK + 5.0, 6.0))
    assert layout.grid.seconds_to_beats(np.array([0.0, 1.0])) == pytest.approx([0.0, 2.0])


def test_over_rounds_of_the_loop_a_stretch_stacks_them_as_passes():
    moves = looped(Timeline.steady(120), 0.0, 4.0, 3)
    [layout] = recorded.stretches_of(moves, Timeline.steady(120), CLOCK + 0.5, CLOCK + 5.5)
    assert [round(one.beat, 2) for one in layout.passes] == [1.0, -0.16, -0.16]
    assert layout.passes[0].begin == 0.0


def test_where_the_transport_did_not_run_a_stretch_lies_nowhere():
    moves = [Move(CLOCK, PLAY, 0.0), Move(CLOCK + 10, STOP, 20.0)]
    assert recorded.stretches_of(moves, Timeline.steady(120), CLOCK + 11, CLOCK + 20) == []
    assert recorded.stretches_of([], Timeline.steady(120), CLOCK, CLOCK + 20) == []


def test_what_was_played_before_the_transport_began_stands_before_it_and_what_follows_its_end_after():
    moves = [Move(CLOCK + 2, PLAY, 8.0), Move(CLOCK + 4, STOP, 12.0), Move(CLOCK + 9, PLAY, 0.0)]
    first, second = recorded.stretches_of(moves, Timeline.steady(120), CLOCK, CLOCK + 12)
    assert (first.begin, first.end, first.beat) == pytest.approx((CLOCK, CLOCK + 9, 4.0))
    assert (second.begin, second.end, second.beat) == pytest.approx((CLOCK + 9, CLOCK + 12, 0.0))


@pytest.mark.parametrize(("start", "beat"), [("at once", 2.95), ("count-in", 3.5)])
def test_who_plays_at_once_is_heard_from_the_moment_record_was_pressed(start, beat):
    begun = recorded.Begun(4.0, CLOCK - 0.5, start, 0.5)
    layout = recorded.layout_of(begun, [Move(CLOCK, PLAY, 4.0)], Timeline.steady(120), CLOCK + 2)
    assert layout.beat == pytest.approx(beat)


def test_a_hit_whose_block_began_just_before_record_was_pressed_is_in_the_take():
    # The transport began to play a third of a second after Record was pressed, long after the early half beat.
    begun = recorded.Begun(0.0, pressed=CLOCK, start=recorded.AT_ONCE)
    layout = recorded.layout_of(begun, [Move(CLOCK + 0.35, PLAY, 0.0)], Timeline.steady(300), CLOCK + 2)
    assert CLOCK - 0.04 < layout.begin < CLOCK - 0.006
