"""Takes of what arrived: each input its own, notes held at the stop get their end, nothing after it begins."""

from __future__ import annotations

from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.recorded import Layout
from puresignal.core.timing.session_time import Timeline
from puresignal.io import recorded_takes

KIT, KEYS = LiveInput("kit:out", 10, ident="a"), LiveInput("keys:out", ident="b")
LAYOUT = Layout(10.0, 20.0, 0.0, Timeline.steady(120))


def rows(take):
    events = take.events
    return [
        (round(float(at), 3), status, note)
        for at, status, note in zip(events.arrived.tolist(), events.status.tolist(), events.data1.tolist(), strict=True)
    ]


def test_a_note_held_at_the_stop_gets_its_end_there():
    arrived = [
        (11.0, "keys:out", b"\x90\x40\x50"),
        (12.0, "keys:out", b"\x90\x43\x50"),
        (13.0, "keys:out", b"\x80\x43\x00"),
    ]
    [made] = recorded_takes.takes_of(arrived, LAYOUT, [KEYS], ["t"], 1)
    assert rows(made.take)[-1] == (10.0, 0x80, 0x40)
    assert len(rows(made.take)) == 4


def test_a_note_that_begins_after_the_stop_is_not_in_and_an_end_just_after_it_is():
    arrived = [
        (19.9, "keys:out", b"\x90\x40\x50"),
        (20.1, "keys:out", b"\x90\x44\x50"),
        (20.2, "keys:out", b"\x80\x40\x00"),
    ]
    [made] = recorded_takes.takes_of(arrived, LAYOUT, [KEYS], ["t"], 1)
    assert rows(made.take) == [(9.9, 0x90, 0x40), (10.2, 0x80, 0x40)]


def test_each_input_gets_its_own_and_a_silent_one_none():
    arrived = [
        (11.0, "kit:out", b"\x99\x26\x50"),
        (11.1, "kit:out", b"\x90\x26\x50"),
        (11.2, "keys:out", b"\xb0\x40\x7f"),
    ]
    made = recorded_takes.takes_of(arrived, LAYOUT, [KIT, KEYS], ["t", "u"], 5)
    assert [(one.take.ident, one.take.name, rows(one.take)[0]) for one in made] == [
        ("t", "Recorded, take 5", (1.0, 0x99, 38))
    ]


def test_a_delay_moves_what_arrived_and_what_comes_into_the_take_by_it_is_in():
    arrived = [(10.01, "keys:out", b"\x90\x40\x50"), (20.02, "keys:out", b"\x90\x41\x50")]
    [made] = recorded_takes.takes_of(arrived, LAYOUT, [KEYS], ["t"], 1, delay=-0.03)
    assert rows(made.take)[0] == (9.99, 0x90, 0x41)
