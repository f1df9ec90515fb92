"""Rounds of a loop without the window: what is played live sounds in the next round, once, and own messages never."""

from __future__ import annotations

from puresignal.engine.round_echo import RoundEcho

ON, OFF = b"\x99\x26\x5a", b"\x89\x26\x40"


def heard(echo, *left):
    echo.hear(left, lambda at: at % 10.0)


def echoing():
    echo = RoundEcho()
    echo.switch(True)
    return echo


def test_what_was_played_is_due_in_the_next_round_at_its_place_and_in_each_after_it():
    echo = echoing()
    heard(echo, (103.0, 0, ON), (103.2, 0, OFF))
    assert echo.due(9.0) == []
    for _ in range(3):
        echo.begin_round()
        assert echo.due(2.9) == []
        assert echo.due(9.0) == [(3.0, 0, ON), (103.2 % 10, 0, OFF)]
        assert echo.due(10.0) == []


def test_what_the_player_sent_itself_is_not_heard_but_a_hit_like_it_is():
    echo = echoing()
    echo.fed(101.0, 0, ON)
    heard(echo, (101.001, 0, ON), (101.02, 0, ON), (104.0, 1, ON))
    echo.begin_round()
    assert [(place, output) for place, output, _ in echo.due(10.0)] == [(101.02 % 10, 0), (4.0, 1)]


def test_what_the_score_has_by_now_is_forgotten():
    echo = echoing()
    heard(echo, (101.0, 0, ON), (105.0, 0, ON))
    echo.begin_round()
    assert len(echo.due(2.0)) == 1
    echo.forget(103.0)
    assert [place for place, _, _ in echo.due(10.0)] == [5.0]
    echo.forget(200.0)
    echo.begin_round()
    assert echo.due(10.0) == []


def test_ends_of_other_notes_and_controllers_are_left_alone():
    echo = echoing()
    heard(echo, (101.0, 0, OFF), (102.0, 0, b"\xb9\x04\x40"))
    echo.begin_round()
    assert echo.due(10.0) == []


def test_switched_off_it_forgets():
    echo = echoing()
    heard(echo, (101.0, 0, ON))
    echo.begin_round()
    echo.switch(False)
    echo.switch(True)
    echo.begin_round()
    assert echo.due(10.0) == []
