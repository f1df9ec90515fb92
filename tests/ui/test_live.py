"""The live input in the real window, on a real JACK server."""

from __future__ import annotations

import os
import signal
import time

import pytest
from PySide6.QtCore import Qt

from puresignal.core.session import session as edits
from puresignal.core.session.live_input import with_input
from puresignal.io import journal, midi_reader, note_map_file
from puresignal.ui.inputs import live_cards
from tests.engine.conftest import Peer, peers, prompt, server  # noqa: F401 - fixtures
from tests.engine.test_journal import children
from tests.ui.conftest import record_at_once

HITS = [(60, 100), (61, 90), (71, 70), (72, 64)]


def choose(combo, data):
    """Choose a line of a list."""
    combo.setCurrentIndex(combo.findData(data))
    combo.activated.emit(combo.currentIndex())


def use_kit(window, ident):
    """Give the first input a kit."""
    bench = window.workbench
    inputs = with_input(bench.session.inputs, 0, source=note_map_file.shipped(ident))
    bench.do("choose kit", edits.with_inputs(bench.session, inputs))


def offered(window, qtbot, *names):
    """Show Inputs, and wait until ports are offered there: they are found without being asked for."""
    window.show_view("Inputs")
    panel = window.inputs.live
    qtbot.waitUntil(lambda: all(panel.source_port.findData(name) >= 0 for name in names), timeout=8000)
    return panel


@pytest.fixture
def glowing(monkeypatch):
    """Lamps that stay lit, so that a slow machine still sees them."""
    monkeypatch.setattr(live_cards, "GLOW_MS", 10_000)


@pytest.fixture
def live(window, peers, qtbot):  # noqa: F811
    """A window with live input from a kit, sending to a receiver."""
    kit, synth = peers("kit"), peers("synth")
    record_at_once(window)
    panel = offered(window, qtbot, "kit:out", "synth:out")
    use_kit(window, "practice-five")
    choose(panel.source_port, "kit:out")
    choose(panel.target_port, "synth:in")
    qtbot.mouseClick(panel.listen, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: bool(kit.client.get_all_connections(kit.out)), timeout=8000)
    qtbot.waitUntil(lambda: panel.says.text() == "Listening", timeout=8000)
    qtbot.wait(100)
    yield window, kit, synth
    window.live_session.stop()


def play(kit, qtbot, note, velocity):
    kit.play(bytes([0x99, note, velocity]))
    qtbot.wait(40)
    kit.play(bytes([0x89, note, 0]))
    qtbot.wait(40)


def play_until(kit, qtbot, note, velocity, condition):
    """Hit repeatedly until a condition holds, as a player would: on a stalled machine two hits become a flam."""
    for _ in range(6):
        play(kit, qtbot, note, velocity)
        if condition():
            return
        qtbot.wait(300)
    raise AssertionError(f"note {note}, hit again and again, did not bring it about")


def test_a_hit_lights_the_lamp_and_is_named_in_every_view(glowing, live, qtbot):
    window, kit, synth = live
    assert not window.rail.live.cards[0].lit
    for i, view in enumerate(window.views):
        note, words = ((61, "snare, head – 90"), (99, "note 99 – 90"))[i % 2]
        window.show_view(view)
        play(kit, qtbot, note, 90)
        assert window.rail.live.isVisible()
        qtbot.waitUntil(lambda words=words: window.rail.live.cards[0].words == words, timeout=3000)
        assert window.rail.live.cards[0].lit
    assert [m for _, m in synth.got][:1] == [b"\x99\x26\x5a"]
    assert len([m for _, m in synth.got if m[0] == 0x99]) == (len(window.views) + 1) // 2


def test_a_recording_becomes_a_take_and_is_seen_while_it_is_played(live, qtbot):
    window, kit, _ = live
    window.show_view("Takes")
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    for i, (note, velocity) in enumerate(HITS):
        play(kit, qtbot, note, velocity)
        qtbot.waitUntil(lambda: window.workbench.seen is not None, timeout=3000)
        qtbot.waitUntil(lambda i=i: window.workbench.seen.outcome.tally.arrived == i + 1, timeout=3000)
        begin, end = window.takes.timeline.axis.seconds_in_view()
        assert begin <= window.workbench.seen.outcome.output_notes.start[-1] <= end
    assert window.workbench.session.takes == ()
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    [ref] = window.workbench.session.takes
    take = window.workbench.store[ref.ident]
    on = (take.events.status == 0x99) & (take.events.data2 > 0)
    assert list(zip(take.events.data1[on].tolist(), take.events.data2[on].tolist(), strict=True)) == HITS
    gaps = [b[0] - a[0] for a, b in zip(kit.sent, kit.sent[1:], strict=False)]
    kept = (take.events.arrived[1:] - take.events.arrived[:-1]) * 48_000
    assert kept.tolist() == pytest.approx(gaps, abs=1.01)
    assert ref.source == note_map_file.shipped("practice-five")
    assert window.menus.undo.text() == "Undo: record take"


def test_an_empty_recording_is_reported_and_makes_no_take(live, qtbot):
    window, _, _ = live
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    assert window.workbench.session.takes == ()
    assert "Nothing was played" in window.notice.text


def test_panic_ends_every_note_by_one_key(live, qtbot):
    window, kit, synth = live
    kit.play(b"\x99\x3d\x5a")
    qtbot.waitUntil(lambda: bool(synth.got), timeout=3000)
    qtbot.keyClick(window, Qt.Key.Key_Period, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: len(synth.got) >= 34, timeout=3000)
    messages = [m for _, m in synth.got]
    assert messages[1][:2] == b"\x89\x26"
    assert {m[0] & 0x0F for m in messages if m[:2][1] == 123} == set(range(16))


def test_the_receiver_follows_a_changed_map_while_playing(live, qtbot):
    window, kit, synth = live
    window.maps.set_target(note_map_file.shipped("boathouse-room"))
    qtbot.wait(150)
    play(kit, qtbot, 61, 90)
    assert (0x99, 7) in [(m[0], m[1]) for _, m in synth.got]


def test_a_crashed_router_is_reported_and_recording_continues(live, qtbot):
    window, kit, _ = live

    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    play(kit, qtbot, 60, 100)
    [engine] = [p for p in children(os.getpid(), "puresignal.engine ") if p]
    os.kill(engine, signal.SIGKILL)
    qtbot.waitUntil(
        lambda: "died" in window.inputs.live.says.text() or window.live_session._restarts == 1, timeout=9000
    )
    qtbot.waitUntil(lambda: bool(kit.client.get_all_connections(kit.out)), timeout=9000)
    qtbot.waitUntil(lambda: window.inputs.live.says.text() == "Listening", timeout=9000)
    qtbot.wait(200)
    play(kit, qtbot, 61, 90)
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    notes = window.workbench.shown.outcome.input_notes.note.tolist()
    assert notes == [60, 61]
    starts = window.workbench.shown.outcome.input_notes.start
    # The server stands still while it waits for the dead client, so its own clock and the wall's disagree.
    on_the_wall, in_frames = kit.sent_at[2] - kit.sent_at[0], (kit.sent[2][0] - kit.sent[0][0]) / 48_000
    shortest, longest = sorted((on_the_wall, in_frames))
    assert shortest - 0.3 < starts[1] - starts[0] < longest + 0.3


def test_everything_is_journalled_even_without_recording(live, qtbot):
    window, kit, _ = live
    play(kit, qtbot, 60, 100)
    qtbot.mouseClick(window.inputs.live.listen, Qt.MouseButton.LeftButton)
    assert window.rail.live.cards[0].standing == "off"
    folder = window.live_session.journal_folder().parent
    rows = journal.read(sorted(folder.rglob("*.journal")))[1]
    assert [d for _, _, d in rows] == [b"\x99\x3c\x64", b"\x89\x3c\x00"]
    deadline = time.monotonic() + 3

    def engines():
        # The one that watches for ports goes on.
        return set(children(os.getpid(), "puresignal.engine")) - set(children(os.getpid(), "port_watcher"))

    while engines() and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not engines()


def test_without_a_server_the_window_reports_it_and_all_else_works(window, monkeypatch, qtbot):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    panel = offered(window, qtbot)
    qtbot.waitUntil(lambda: "no JACK server" in panel.says.text(), timeout=8000)
    assert not window.inputs.live.listen.isEnabled()
    qtbot.mouseClick(window.rail.play, Qt.MouseButton.LeftButton)
    assert window.workbench.shown is not None


def lines(window):
    model = window.inputs.messages.model
    return [model.data(model.index(i, 0), Qt.ItemDataRole.DisplayRole) for i in range(model.rowCount())]


def test_the_meanings_of_messages_line_up(qtbot):
    from PySide6.QtWidgets import QListView

    from puresignal.engine.ring import Record
    from puresignal.ui.inputs.message_list import MessageLines, MessagesModel

    view = QListView()
    view.setItemDelegate(MessageLines(view))
    qtbot.addWidget(view)
    model = MessagesModel(view)
    view.setModel(model)
    model.add([Record(1.0, 0, data) for data in (b"\x99\x24\x6c", b"\x9f\x1f\x3f", b"\x90\x00\x5d", b"\xfe")])
    view.resize(500, 200)
    view.show()
    picture = view.viewport().grab().toImage()
    begins = []
    for i in range(model.rowCount()):
        row = view.visualRect(model.index(i, 0))
        ink = [
            any(picture.pixelColor(x, y).lightness() < 160 for y in range(row.top(), row.bottom()))
            for x in range(row.left(), row.right())
        ]
        # Gaps between columns are wider than between words; what the bytes mean begins after the second.
        gaps = [part for part in runs(ink[: len(ink) - ink[::-1].index(True)]) if len(part) >= 7]
        begins.append(gaps[1].stop)
    assert max(begins) - min(begins) <= 2


def test_a_message_of_a_hat_fits_the_list_of_a_window_of_1280_pixels(window, qtbot):
    from PySide6.QtWidgets import QListView

    from puresignal.core.path.context import Context
    from puresignal.engine.ring import Record
    from puresignal.io import note_map_file
    from puresignal.ui.inputs.message_list import MessageLines, MessagesModel

    view = QListView()
    view.setItemDelegate(MessageLines(view))
    qtbot.addWidget(view)
    model = MessagesModel(view)
    kit = Context(note_map_file.shipped("practice-five"), note_map_file.shipped("boathouse-room"))
    model.context_of = lambda _: kit
    view.setModel(model)
    model.add([Record(1.0, 0, b"\x99\x47\x39")])
    assert "hi-hat, closed: note-on 71" in model.data(model.index(0), Qt.ItemDataRole.DisplayRole)
    assert view.sizeHintForIndex(model.index(0)).width() <= 392


def runs(ink: list[bool]) -> list[range]:
    """The first blank row below the text."""
    out, start = [], None
    for x in range(ink.index(True), len(ink)):
        if ink[x]:
            if start is not None:
                out.append(range(start, x))
            start = None
        elif start is None:
            start = x
    return out


def test_messages_are_listed_in_words_filtered_and_paused(live, qtbot):
    window, kit, _ = live
    inputs = window.inputs
    window.show_view("Inputs")
    inputs.pages.setCurrentWidget(inputs.messages)
    kit.play(b"\xb9\x04\x40", b"\x99\x3d\x5e", b"\xfe")
    qtbot.waitUntil(lambda: len(lines(window)) == 2, timeout=3000)
    assert lines(window)[0].endswith("controller 4, value 64, ch 10")
    assert lines(window)[1].endswith("snare, head: note-on 61, velocity 94, ch 10")
    assert "99 3d 5e" in lines(window)[1]
    inputs.messages.filters["controllers"].setChecked(False)
    qtbot.mouseClick(inputs.messages.pause, Qt.MouseButton.LeftButton)
    kit.play(b"\xb9\x04\x41", b"\x89\x3d\x00")
    qtbot.wait(150)
    assert len(lines(window)) == 2
    qtbot.mouseClick(inputs.messages.pause, Qt.MouseButton.LeftButton)
    assert len(lines(window)) == 3
    assert "note-off" in lines(window)[2]


def test_the_list_keeps_up_with_three_thousand_messages_a_second(live, qtbot):
    window, kit, _ = live
    window.show_view("Inputs")
    window.inputs.pages.setCurrentWidget(window.inputs.messages)
    kit.todo += [[(o * 14, bytes([0xB9, 11, i % 128])) for o in range(16)] for i in range(2 * 48_000 // 256)]
    wanted = 16 * (2 * 48_000 // 256)
    qtbot.waitUntil(lambda: window.inputs.messages._total == wanted, timeout=9000)
    assert window.live_session._reader.missed == 0
    assert len(lines(window)) == 5000


def test_a_kit_is_learnt_by_hitting_its_pads(live, qtbot):
    window, kit, synth = live
    panel = window.inputs.live
    qtbot.mouseClick(panel.learn, Qt.MouseButton.LeftButton)
    known = len(window.services.learner.learning.note_map.pads)
    play(kit, qtbot, 41, 80)
    assert "Note 41: tom 4, head? Hit it again" in panel.says.text()
    assert panel.what.isVisible()
    assert len(window.services.learner.learning.note_map.pads) == known
    qtbot.wait(250)
    play_until(kit, qtbot, 41, 80, lambda: len(window.services.learner.learning.note_map.pads) > known)
    assert window.services.learner.learning.note_map.pad_for("tom4.head").note == 41
    play(kit, qtbot, 99, 80)
    qtbot.waitUntil(lambda: window.services.learner.learning.waiting == (10, 99), timeout=3000)
    index = panel.what.findText("aux pad 2")
    panel.what.setCurrentIndex(index)
    panel.what.activated.emit(index)
    assert len(window.services.learner.learning.note_map.pads) == known + 2
    assert not panel.what.isVisible()
    qtbot.wait(150)
    before = len(synth.got)
    play(kit, qtbot, 41, 77)
    assert synth.got[before][1] == b"\x99\x29\x4d"
    qtbot.mouseClick(panel.learn, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    play(kit, qtbot, 99, 80)
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    assert window.workbench.session.take().source.pad_for("aux2").note == 99


# Why is it silent? Each place is broken for real.


def why(window) -> str:
    window.inputs.live.why.click()
    return window.notice.text


def say(window, qtbot, words):
    """Wait until the answer of "No sound?" has these words: what was just played takes a moment."""
    qtbot.waitUntil(lambda: words in why(window), timeout=4000)


def test_no_sound_names_each_broken_place(window, peers, server, qtbot):  # noqa: F811
    kit, synth = peers("kit"), peers("synth")
    panel = offered(window, qtbot, "kit:out", "synth:out")
    use_kit(window, "practice-five")
    choose(panel.source_port, "kit:out")
    choose(panel.target_port, None)
    assert "✕ listening" in why(window)
    window.notice.act.click()
    assert window.live_session.listening
    qtbot.waitUntil(lambda: panel.says.text() == "Listening", timeout=8000)
    say(window, qtbot, "✕ messages")
    kit.play(b"\xfe", b"\xf8", b"\xb9\x04\x40")
    say(window, qtbot, "✕ notes")
    kit.play(b"\x93\x3d\x5a")
    say(window, qtbot, "✕ channel")
    assert "channel 4" in window.notice.text
    kit.play(b"\x99\x63\x5a")
    say(window, qtbot, "✕ known note")
    assert "Note 99" in window.notice.text
    window.notice.act.click()
    play(kit, qtbot, 99, 90)
    qtbot.wait(300)
    play_until(kit, qtbot, 99, 90, lambda: any(p.note == 99 for p in window.workbench.session.inputs[0].source.pads))
    window.maps.set_target(note_map_file.shipped("lantern-pads"))
    kit.play(b"\x99\x55\x5a")
    say(window, qtbot, "✕ receiver's drum\nThe receiver has no tom 2, head")
    window.maps.set_target(note_map_file.shipped("general-midi"))
    assert "✕ output" in why(window)
    window.notice.act.click()
    assert not window.live_session.listening
    choose(panel.target_port, "synth:in")
    panel.listen.click()
    qtbot.waitUntil(lambda: panel.says.text() == "Listening", timeout=8000)
    qtbot.wait(80)
    play(kit, qtbot, 61, 90)
    say(window, qtbot, "Every hit is sent to the receiver")
    synth.close()
    qtbot.waitUntil(lambda: "unavailable" in panel.says.text(), timeout=5000)
    assert "✕ receiver" in why(window)
    kit.close()
    qtbot.waitUntil(lambda: "kit:out is unavailable" in panel.says.text(), timeout=5000)
    assert "✕ input" in why(window)
    server.stop()
    qtbot.waitUntil(lambda: "neither JACK nor PipeWire" in panel.says.text(), timeout=8000)
    assert "✕ port system" in why(window)
    window.live_session.stop()


# Simulated devices, with no server at all


@pytest.fixture
def alone(window, monkeypatch, qtbot):
    """A window on a machine without a port system."""
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    record_at_once(window)
    offered(window, qtbot)
    yield window
    window.live_session.stop()


def test_the_simulated_drum_module_is_one_click_away_and_is_captured(alone, qtbot):
    window, drummer = alone, alone.inputs.drummer
    drummer.tempo.setValue(160)
    qtbot.mouseClick(drummer.stream, Qt.MouseButton.LeftButton)
    card = window.rail.live.cards[0]
    qtbot.waitUntil(lambda: card.lit, timeout=6000)
    assert card.standing == "simulated"
    assert "Simulated drum module" in card.accessibleName()
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: window.workbench.seen is not None and window.workbench.seen.outcome.tally.arrived > 6, timeout=6000
    )
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    [ref] = window.workbench.session.takes
    assert ref.source == drummer.kit_now
    assert drummer.stream.text() == "Stop"
    qtbot.mouseClick(drummer.stream, Qt.MouseButton.LeftButton)
    qtbot.wait(300)
    before = window.inputs.messages._total
    qtbot.wait(400)
    assert window.inputs.messages._total == before


def test_one_hit_runs_along_its_ribbon_and_its_pad_is_ticked(alone, qtbot):
    window, drummer = alone, alone.inputs.drummer
    drummer.pad.setCurrentIndex(drummer.pad.findData("tom2.head"))
    qtbot.mouseClick(drummer.hit, Qt.MouseButton.LeftButton)
    window.show_view("Mapping")
    qtbot.waitUntil(lambda: window.inputs.messages._total > 0, timeout=6000)
    qtbot.mouseClick(drummer.hit, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: bool(window.mapping.ribbons.running), timeout=3000)
    flows = window.mapping.flows
    arriving, meaning = window.mapping.ribbons.running[0]
    assert flows.meanings[meaning].name == "tom2.head"
    assert flows.arriving[arriving].note == drummer.kit_now.pad_for("tom2.head").note
    ribbons = window.mapping.ribbons
    moving = ribbons.grab().toImage()
    qtbot.waitUntil(lambda: ribbons.running == (), timeout=3000)
    assert ribbons.grab().toImage() != moving
    assert window.mapping.heard_title.text().startswith("1 of")
    assert "tom 2 head" in window.mapping.heard.text()
    assert "snare head" in window.mapping.not_heard.text()


def test_a_live_kit_is_mapped_while_it_is_played(alone, qtbot):
    window, drummer = alone, alone.inputs.drummer
    qtbot.mouseClick(drummer.hit, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.inputs.messages._total > 0, timeout=6000)
    window.show_view("Mapping")
    window.maps.source.chosen.emit(note_map_file.shipped("lantern-pads"))
    assert window.workbench.session.inputs[0].source == note_map_file.shipped("lantern-pads")
    assert window.menus.undo.text() == "Undo: choose source map"
    window.workbench.undo()
    window.maps.source.chosen.emit(note_map_file.shipped("two-decks"))
    mapping = window.mapping
    qtbot.waitUntil(lambda: len(mapping.flows.arriving) == 1, timeout=3000)
    mapping._mean(0, "snare.side")
    pad = window.workbench.session.inputs[0].source.pad_for("snare.side")
    assert pad.note == drummer.kit_now.pad_for("snare.head").note


def test_two_players_are_recorded_into_two_takes_that_start_together(alone, qtbot):
    window = alone
    window.inputs.play_device("Simulated drum module", True)
    window.inputs.play_device("Simulated keyboard", True)
    qtbot.waitUntil(lambda: all(card.lit for card in window.rail.live.cards), timeout=9000)
    assert len(window.rail.live.cards) == 2
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    qtbot.wait(1500)
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    # Both are in: one tally, one picture and one file.
    assert {1, 10} == set(window.workbench.seen.outcome.output_notes.channel.tolist())
    song = midi_reader.parse(window.workbench.midi_bytes(), "out.mid")
    channels = {int(s) & 15 for track in song.tracks for s in track.messages.status if s & 0xF0 == 0x90}
    assert channels == {0, 9}
    takes = [window.workbench.store[ref.ident] for ref in window.workbench.session.takes]
    assert [take.ports[0].name for take in takes] == ["Simulated drum module", "Simulated keyboard"]
    assert {int(s) & 0x0F for s in takes[0].events.status if s < 0xF0} == {9}
    assert {int(s) & 0x0F for s in takes[1].events.status if s < 0xF0} == {0}
    # Both begin at one moment, half a beat before the record point.
    begins = [ref.beat for ref in window.workbench.session.takes]
    # More where a busy machine took longer to begin: all since the press belongs.
    assert begins[0] == begins[1] <= -0.5
    window.workbench.undo()
    assert window.workbench.session.takes == ()
    # Not armed: what comes is not taken, though it is heard.
    window.rail.live.menu(0).actions()[1].trigger()
    assert not window.workbench.session.inputs[0].armed
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    qtbot.wait(900)
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    [ref] = window.workbench.session.takes
    assert window.workbench.store[ref.ident].ports[0].name == "Simulated keyboard"


def test_earlier_playing_can_be_kept_without_recording(alone, qtbot):
    window, drummer = alone, alone.inputs.drummer
    for _ in range(3):
        qtbot.mouseClick(drummer.hit, Qt.MouseButton.LeftButton)
        qtbot.wait(150)
    qtbot.waitUntil(lambda: window.inputs.messages._total >= 6, timeout=6000)
    qtbot.wait(100)
    qtbot.mouseClick(window.inputs.live.kept, Qt.MouseButton.LeftButton)
    dialog = window.inputs.questions.dialog
    assert dialog.list.count() == 1
    qtbot.mouseClick(dialog.keep, Qt.MouseButton.LeftButton)
    [ref] = window.workbench.session.takes
    assert window.workbench.shown.outcome.tally.arrived == 3
    assert ref.source == drummer.kit_now
    dialog.close()


def test_an_ignored_channel_and_an_unmonitored_input_are_named(alone, qtbot):
    window, drummer, panel = alone, alone.inputs.drummer, alone.inputs.live
    qtbot.mouseClick(drummer.hit, Qt.MouseButton.LeftButton)
    choose(panel.target_port, "Simulated receiver")
    choose(panel.editors[0].channel, 3)
    qtbot.waitUntil(lambda: window.live_session.state.get("outputs") == ["Simulated receiver"], timeout=6000)
    qtbot.mouseClick(drummer.hit, Qt.MouseButton.LeftButton)
    say(window, qtbot, "✕ listening channel")
    assert "channel 3 only" in window.notice.text
    qtbot.mouseClick(window.notice.act, Qt.MouseButton.LeftButton)
    assert window.workbench.session.inputs[0].channel == 0
    qtbot.mouseClick(panel.editors[0].monitor, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(drummer.hit, Qt.MouseButton.LeftButton)
    say(window, qtbot, "✕ monitor")
    qtbot.mouseClick(window.notice.act, Qt.MouseButton.LeftButton)
    qtbot.wait(100)
    qtbot.mouseClick(drummer.hit, Qt.MouseButton.LeftButton)
    say(window, qtbot, "Every hit is sent to the receiver")
    # A second hit so soon after the first and so much softer is taken for a double trigger.
    window.inputs.strike("snare.head", 110)
    # Without the window's own work in between, which may take longer than a double trigger does.
    time.sleep(0.006)
    window.inputs.strike("snare.head", 20)
    say(window, qtbot, "✕ kept")
    assert "removed: double" in window.notice.text


def test_heard_twice_names_the_second_source_and_mutes_it(live, qtbot):
    window, kit, synth = live
    panel = window.inputs.live
    play(kit, qtbot, 61, 90)
    panel.twice.click()
    assert "sounds once here" in window.notice.text
    kit.client.connect("kit:out", "synth:in")
    panel.twice.click()
    assert "kit:out is connected directly to synth:in" in window.notice.text
    qtbot.mouseClick(window.notice.act, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "synth:in" not in [c.name for c in kit.client.get_all_connections(kit.out)], timeout=3000)
    panel.add_input()
    choose(panel.editors[1].source_port, "kit:out")
    choose(panel.editors[1].target_port, "synth:in")
    qtbot.waitUntil(lambda: panel.says.text() == "Listening", timeout=5000)
    qtbot.wait(200)
    before = len(synth.got)
    play(kit, qtbot, 61, 90)
    panel.twice.click()
    assert "2. Input 2 sends it to synth:in" in window.notice.text
    assert len([m for _, m in synth.got[before:] if m[0] == 0x99]) == 2
    qtbot.mouseClick(window.notice.act, Qt.MouseButton.LeftButton)
    qtbot.wait(200)
    before = len(synth.got)
    play(kit, qtbot, 61, 90)
    assert len([m for _, m in synth.got[before:] if m[0] == 0x99]) == 1


def test_the_pedal_is_learnt_by_one_press_and_release(live, qtbot):
    window, kit, _ = live
    panel = window.inputs.live
    qtbot.mouseClick(panel.learn, Qt.MouseButton.LeftButton)
    for value in (126, 90, 50, 10, 2, 2, 40, 90, 126):
        kit.play(bytes((0xB9, 4, value)))
        qtbot.wait(15)
    qtbot.waitUntil(lambda: "open at 126, closed at 2" in panel.says.text(), timeout=3000)
    hat = window.workbench.session.inputs[0].source.hat
    assert (hat.controller, hat.open_at, hat.closed_at) == (4, 126, 2)
    assert window.menus.undo.text() == "Undo: learn kit"


def test_the_panel_says_what_the_server_runs_at(live, qtbot):
    window, _, _ = live
    panel = window.inputs.live
    assert panel.figures.text().startswith("JACK, 48 kHz, 256 frames: 5.3 ms · ")
    # The server of the tests runs without real-time scheduling.
    assert "real-time scheduling" in panel.figures.text()
    state = {**window.live_session.state, "dropouts": 3}
    window.live_session.router_state_changed.emit(state)
    assert panel.figures.text().splitlines()[0] == "JACK, 48 kHz, 256 frames: 5.3 ms · 3\u00a0dropouts"


class Echo(Peer):
    """Sends back what it hears, 480 frames later."""

    LATE = 480

    def __init__(self, name):
        self.due = []
        super().__init__(name)

    def _process(self, frames):
        self.out.clear_buffer()
        if self.closed:
            return
        now = self.client.last_frame_time
        self.due += [(now + offset + self.LATE, bytes(data)) for offset, data in self.inp.incoming_midi_events()]
        while self.due and self.due[0][0] < now + frames:
            at, message = self.due.pop(0)
            self.out.write_midi_event(max(0, at - now), message)


def test_the_delay_of_a_loop_back_is_measured_shown_and_taken_off(window, server, qtbot):  # noqa: F811
    echo = Echo("echo")
    try:
        panel = offered(window, qtbot, "echo:out")
        choose(panel.source_port, "echo:out")
        qtbot.mouseClick(panel.listen, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: bool(echo.client.get_all_connections(echo.out)), timeout=8000)
        window.show_record_settings()
        row = window._record_settings.measure
        qtbot.waitUntil(lambda: row.port.findText("echo:in") >= 0, timeout=8000)
        row.port.setCurrentIndex(row.port.findText("echo:in"))
        qtbot.mouseClick(row.button, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: "there and back" in row.said.text(), timeout=12_000)
        # Ten milliseconds, and a block or more where out and in make a circle of the graph on a busy machine.
        assert 9.9 <= window.workbench.session.recording.in_delay <= 60
        assert row.picture.isVisible()
        assert row.picture.found.counts.sum() == 24 - row.picture.found.lost
        assert window.menus.undo.text() == "Undo: change recording settings"
    finally:
        window.live_session.stop()
        echo.close()


def test_a_loop_back_that_is_not_wired_says_what_to_do(live, qtbot):
    window, _, _ = live
    window.show_record_settings()
    row = window._record_settings.measure
    qtbot.waitUntil(lambda: row.port.findText("synth:in") >= 0, timeout=8000)
    row.port.setCurrentIndex(row.port.findText("synth:in"))
    qtbot.mouseClick(row.button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "Nothing came back" in window.notice.text, timeout=12_000)
    assert window.workbench.session.recording.in_delay == 0
