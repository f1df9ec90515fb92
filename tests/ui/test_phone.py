"""A phone on the touch surface of the real window: how it gets on, what arrives, and that it can be switched off."""

from __future__ import annotations

import time

import pytest
from PySide6.QtCore import Qt

from puresignal.io import ports
from puresignal.sim.simulated_phone import SimulatedPhone
from puresignal.ui.inputs.found_ports import add_input
from puresignal.ui.state import phone_input


@pytest.fixture
def window(demo_window, monkeypatch, qtbot):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    monkeypatch.setattr(phone_input, "networks", lambda: [("", "127.0.0.1")])
    window = demo_window
    add_input(window.services, ports.TOUCH)
    live = window.services.live_session
    qtbot.waitUntil(lambda: bool(live.state.get("inputs")), timeout=8000)
    window.arrived = []
    live.messages_received.connect(lambda records: window.arrived.extend((r.at, r.data) for r in records))
    yield window
    window.services.phone.switch_off()
    live.close()


def opened(window, qtbot):
    """The dialog, switched on by a click."""
    face = window.view("Inputs").touch
    qtbot.waitUntil(face.phone.isVisible, timeout=3000)
    qtbot.mouseClick(face.phone, Qt.MouseButton.LeftButton)
    dialog = face._phone_dialog
    dialog.network.setCurrentIndex(dialog.network.findData("127.0.0.1"))
    assert not window.services.phone.on
    qtbot.mouseClick(dialog.switch, Qt.MouseButton.LeftButton)
    return dialog


def joined(window, dialog, qtbot):
    server = window.services.phone.server
    phone = SimulatedPhone(server.host, {"code": dialog.code.text().replace(" ", "")}, ahead=777.0)
    qtbot.waitUntil(lambda: bool(phone.face), timeout=3000)
    return phone


def sounds(window):
    return [(data[0], data[1], data[2]) for _, data in window.arrived]


def test_a_phone_plays_the_surface_and_shows_what_is_held(window, qtbot):
    dialog = opened(window, qtbot)
    assert dialog.picture.text == window.services.phone.server.way_in
    phone = joined(window, dialog, qtbot)
    player = window.services.touch.player
    assert (phone.face["rows"], phone.face["columns"]) == (player.rows, player.columns)
    assert [one["label"] for one in phone.face["cells"]] == [cell.label for cell in player.cells]
    began = time.monotonic()
    phone.touch("down", 1, 0.5 / player.columns, 0.5 / player.rows)
    qtbot.waitUntil(lambda: phone.held == [[0, 0, 127]], timeout=3000)
    phone.touch("up", 1, 0, 0)
    qtbot.waitUntil(lambda: len(window.arrived) == 2, timeout=3000)
    note = player.cells[0].notes[0]
    assert [(status & 0xF0, n) for status, n, _ in sounds(window)] == [(0x90, note), (0x80, note)]
    assert began - 0.05 < window.arrived[0][0] < time.monotonic() + 0.05
    qtbot.waitUntil(lambda: "Phone 1" in dialog.phones.text(), timeout=3000)
    assert dialog.picture.text == ""
    assert "was used" in dialog.how.text()


def test_the_edge_of_a_cell_is_soft_and_pressure_counts_instead(window, qtbot):
    phone = joined(window, opened(window, qtbot), qtbot)
    player = window.services.touch.player
    for finger, (x, pressure) in enumerate(((0.5, None), (0.95, None), (0.5, 0.2))):
        phone.touch("down", finger, x / player.columns, 0.5 / player.rows, pressure)
        phone.touch("up", finger, 0, 0)
    qtbot.waitUntil(lambda: len(window.arrived) == 6, timeout=3000)
    middle, edge, lightly = (velocity for status, _, velocity in sounds(window) if status & 0xF0 == 0x90)
    assert middle == 127
    assert edge < middle / 2
    assert lightly < middle / 2


def test_other_cells_in_the_window_are_other_cells_on_the_phone(window, qtbot):
    phone = joined(window, opened(window, qtbot), qtbot)
    before = phone.face
    window.services.touch.set(way="drums")
    qtbot.waitUntil(lambda: phone.face != before, timeout=3000)
    assert "kick" in {cell["label"].lower() for cell in phone.face["cells"]}


def test_the_phone_takes_the_colours_of_the_theme_as_soon_as_it_is_chosen(window, qtbot):
    window.choose_theme("light")
    phone = joined(window, opened(window, qtbot), qtbot)
    light = phone.face["colours"]["sheet"]
    window.choose_theme("dim")
    qtbot.waitUntil(lambda: phone.face["colours"]["sheet"] != light, timeout=3000)
    window.choose_theme("light")
    qtbot.waitUntil(lambda: phone.face["colours"]["sheet"] == light, timeout=3000)


def test_switching_off_with_fingers_down_leaves_no_note_hanging(window, qtbot):
    dialog = opened(window, qtbot)
    phone = joined(window, dialog, qtbot)
    columns = window.services.touch.player.columns
    for finger in range(4):
        phone.touch("down", finger, (finger + 0.5) / columns, 0.1)
    qtbot.waitUntil(lambda: len(window.arrived) == 4, timeout=3000)
    qtbot.mouseClick(dialog.switch, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(window.arrived) == 8, timeout=3000)
    assert window.services.touch.player.held == {}
    qtbot.waitUntil(lambda: phone.over, timeout=3000)
    assert dialog.switch.text() == "Switch on"


def test_an_address_that_went_away_is_told(window, qtbot):
    dialog = opened(window, qtbot)
    dialog.network.addItem("gone: 203.0.113.9", "203.0.113.9")
    dialog.network.setCurrentIndex(dialog.network.count() - 1)
    dialog.network.activated.emit(dialog.network.currentIndex())
    assert "Choose another network." in dialog.phones.text()
    assert not window.services.phone.on


def test_networks_of_this_machine_end_with_itself():
    assert phone_input.networks()[-1] == ("", "127.0.0.1")
