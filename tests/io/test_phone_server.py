"""The page for phones: who is let in, what is refused, and that every finger that went down goes up."""

import contextlib
import http.client
import itertools
import socket
import time

import pytest
from websockets.exceptions import ConnectionClosed, InvalidStatus
from websockets.sync.client import connect

from puresignal.core.touch.phone import DOWN, MOVED, UP, face
from puresignal.io import phone_server
from puresignal.io.phone_server import PhoneServer, PhoneServerError
from puresignal.sim.simulated_phone import SimulatedPhone

FACE = face(1, 2, [{"row": 0, "column": 0}], {"ink": "#000000"})


def until(holds, seconds=5.0):
    end = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < end, "it did not happen in time"
        time.sleep(0.005)


@pytest.fixture
def served():
    heard = []

    def touched(number, rows, at):
        heard.extend((number, at, row) for row in rows)

    server = PhoneServer("127.0.0.1", FACE, touched, lambda: None, 0)
    yield server, heard
    server.close()


def joined(server, **more):
    phone = SimulatedPhone(server.host, {"token": server.offer.token}, **more)
    until(lambda: phone.seat and phone.face)
    return phone


def test_a_touch_arrives_with_its_place_and_pressure(served):
    server, heard = served
    phone = joined(server)
    assert phone.face["cells"] == [{"row": 0, "column": 0}]
    phone.touch(DOWN, 1, 0.25, 0.75, 0.6)
    phone.touch(MOVED, 1, 0.5, 0.75)
    phone.touch(UP, 1, 0.5, 0.75)
    until(lambda: len(heard) == 3)
    assert [(row.doing, row.x, row.y, row.pressure) for _, _, row in heard] == [
        (DOWN, 0.25, 0.75, 0.6), (MOVED, 0.5, 0.75, None), (UP, 0.5, 0.75, None),
    ]  # fmt: skip


def test_times_are_those_of_the_touch_whatever_the_phones_clock_says(served):
    server, heard = served
    phone = joined(server, ahead=12_345.0, late=0.02)
    until(lambda: len(server._phones[0].clock._trips) > 7)
    before = time.monotonic()
    phone.touch(DOWN, 1, 0.5, 0.5)
    arrived = time.monotonic()
    until(lambda: heard)
    assert arrived - before >= 0.02
    # All of the delay is on one way here, so half of it cannot be known.
    assert heard[0][1] == pytest.approx(before, abs=0.02)
    assert 9 <= server.phones[0][1] < 90


def test_a_token_and_a_code_serve_once(served):
    server, _ = served
    used = {"token": server.offer.token}
    first = joined(server)
    second = SimulatedPhone(server.host, used)
    until(lambda: second.over)
    assert "another phone has used it" in second.refused
    assert second.seat == ""
    assert not first.over
    assert server.way_in == ""
    server.renew()
    third = SimulatedPhone(server.host, {"code": server.offer.code})
    until(lambda: third.seat)
    assert [number for number, *_ in server.phones] == [0, 1]
    assert third.seat != first.seat


def test_a_lost_link_lifts_the_fingers_and_the_phone_comes_back_on_its_seat(served):
    server, heard = served
    phone = joined(server)
    for finger in range(10):
        phone.touch(DOWN, finger, finger / 10, 0.5)
    until(lambda: len(heard) == 10)
    lost = time.monotonic()
    phone.lose()
    until(lambda: len(heard) == 20)
    assert {row.finger for _, _, row in heard if row.doing == UP} == set(range(10))
    back = SimulatedPhone(server.host, {"seat": phone.seat})
    until(lambda: back.face)
    assert time.monotonic() - lost < 1
    assert back.seat == phone.seat
    back.touch(DOWN, 3, 0.1, 0.1)
    until(lambda: len(heard) == 21)
    assert heard[-1][0] == 0


def test_a_phone_that_sleeps_holds_nothing(served):
    server, heard = served
    phone = joined(server)
    phone.touch(DOWN, 1, 0.5, 0.5)
    phone.answers = False
    until(lambda: [row.doing for _, _, row in heard] == [DOWN, UP], 3)


def test_ten_fingers_at_two_hundred_a_second_keep_their_order(served):
    server, heard = served
    phone = joined(server)
    for step in range(400):
        finger = step // 2 % 10
        phone.touch(DOWN if step % 2 == 0 else UP, finger, step / 400, 0.5)
        time.sleep(0.003)
    until(lambda: len(heard) == 400)
    assert [row.x for _, _, row in heard] == [step / 400 for step in range(400)]
    assert all(later >= earlier for (_, earlier, _), (_, later, _) in itertools.pairwise(heard))


def test_five_wrong_codes_withdraw_the_right_one(served):
    server, _ = served
    right = server.offer.code
    for number in range(phone_server.MOST_WRONG):
        guess = SimulatedPhone(server.host, {"code": f"x{number}"})
        until(lambda guess=guess: guess.over)
    assert server.withdrawn
    assert server.offer is None
    late = SimulatedPhone(server.host, {"code": right})
    until(lambda: late.over)
    assert late.seat == ""


@pytest.mark.parametrize("bad", [
    "x", "[]", "{}", '{"at": 1, "touches": []}', '{"at": 1, "touches": [["down", 1, NaN, 0, null]]}',
    '{"at": 1, "touches": [["down", 1, 0.5, 0.5, 2]]}', '{"at": 1, "touches": [["play", 1, 0.5, 0.5, null]]}',
    '{"pong": -1, "at": 0}', '{"token": "again"}', "[" * 2000, b"\x90\x3c\x64",
    '{"at": 1, "touches": "' + "y" * 5000 + '"}',
])  # fmt: skip
def test_what_is_no_message_of_the_page_ends_its_line_and_no_other(served, bad):
    server, heard = served
    good = joined(server)
    server.renew()
    hostile = joined(server)
    hostile.touch(DOWN, 7, 0.5, 0.5)
    until(lambda: len(heard) == 1)
    with contextlib.suppress(ConnectionClosed):
        hostile.say(bad)
    until(lambda: hostile.over)
    until(lambda: len(heard) == 2)
    assert heard[1][2].doing == UP
    good.touch(DOWN, 1, 0.5, 0.5)
    until(lambda: len(heard) == 3)


def test_ten_thousand_messages_at_once_are_too_many(served):
    server, heard = served
    good = joined(server)
    server.renew()
    flood = joined(server)
    with contextlib.suppress(ConnectionClosed, OSError):
        for _ in range(10_000):
            flood.touch(MOVED, 1, 0.5, 0.5)
    until(lambda: flood.over)
    good.touch(DOWN, 1, 0.5, 0.5)
    until(lambda: len(heard) == 1)


def test_other_pages_and_other_names_are_refused(served):
    server, _ = served
    for origin in (None, "http://elsewhere.example", f"https://{server.host}"):
        with pytest.raises(InvalidStatus) as refused, connect(f"ws://{server.host}/touch", origin=origin):
            pass
        assert refused.value.response.status_code == 403
    line = http.client.HTTPConnection("127.0.0.1", server.port)
    line.request("GET", "/", headers={"Host": "elsewhere.example"})
    assert line.getresponse().status == 421


def test_only_the_pages_own_files_are_served(served):
    server, _ = served

    def fetched(path):
        line = http.client.HTTPConnection("127.0.0.1", server.port)
        line.request("GET", path)
        answer = line.getresponse()
        return answer.status, answer.headers, answer.read()

    status, headers, page = fetched("/")
    assert status == 200
    assert b"Type the code that Pure Signal shows." in page
    assert "default-src 'none'" in headers["Content-Security-Policy"]
    assert b"$" not in page
    for path in ("/page.js", "/page.css", "/awake.webm", "/awake.mp4"):
        assert fetched(path)[0] == 200
    for path in ("/../phone_server.py", "/page.html", "//etc/passwd", "/%2e%2e/", "/?x"):
        assert fetched(path)[0] == 404


def test_a_sender_that_says_nothing_is_not_waited_for(served):
    server, _ = served
    silent = [socket.create_connection(("127.0.0.1", server.port)) for _ in range(30)]
    phone = joined(server)
    assert phone.seat
    for one in silent:
        one.close()


def test_an_address_that_is_not_ours_is_told_in_words():
    with pytest.raises(PhoneServerError, match=r"the page cannot be served: .* \(203\.0\.113\.9\)\. Choose another"):
        PhoneServer("203.0.113.9", FACE, lambda *_: None, lambda: None)


def test_closing_lifts_the_fingers_and_frees_the_address(served):
    server, heard = served
    phone = joined(server)
    phone.touch(DOWN, 1, 0.5, 0.5)
    until(lambda: heard)
    server.close()
    assert [row.doing for _, _, row in heard] == [DOWN, UP]
    with pytest.raises(ConnectionRefusedError):
        socket.create_connection(("127.0.0.1", server.port), timeout=1)
