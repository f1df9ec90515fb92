"""Freezing tracks from the window: what then plays, what says that it is stale, and what gives the notes back."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt

from puresignal.core.session import session as edits
from puresignal.io import ports, session_file
from tests.ui.test_outputs import pick


@pytest.fixture
def window(demo_window, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    demo_window.show_view("Outputs")
    demo_window.outputs.side.setCurrentIndex(1)
    return demo_window


def words(window, title):
    model = window.view("Outputs").model
    row = next(i for i in range(model.rowCount()) if model.track(i).title == title)
    return model.data(model.index(row, 4))


def freeze(window, qtbot, *titles):
    outputs = window.view("Outputs")
    pick(outputs, *titles)
    qtbot.mouseClick(outputs.play.freeze, Qt.MouseButton.LeftButton)
    assert outputs.play.state.text() == "Being rendered…"
    qtbot.waitUntil(lambda: not window.services.freezer.busy, timeout=60_000)


def sent(window, monkeypatch):
    """What is handed to the player and to the sound on playing."""
    scores = []
    playback, live = window.services.playback, window.services.live_session
    playback.play()
    with monkeypatch.context() as patch:
        patch.setattr(live.player, "use", lambda at, data, *rest: scores.append(np.array(data)))
        playback._made_of = None
        playback._follow()
    found = scores[-1], list(live._frozen)
    playback.stop()
    return found


def kicks(data, window):
    whole = window.workbench.whole
    notes = whole.outcome.output_notes
    number = notes.note[notes.track == [t.key for t in whole.outcome.tracks].index("kick")][0]
    return int(((data[:, 1] & 0xF0 == 0x90) & (data[:, 2] == number)).sum())


def test_a_frozen_track_plays_from_its_rendering_and_others_from_their_notes(window, qtbot, monkeypatch, tmp_path):
    before, along = sent(window, monkeypatch)
    assert kicks(before, window) > 4
    assert along == []
    freeze(window, qtbot, "Kick")
    assert words(window, "Kick") == "frozen"
    assert words(window, "Snare") == "yes"
    bench = window.workbench
    made = bench.session.delivery.track("kick").frozen
    sound, rate = soundfile.read(made.path)
    # It holds the kick and its tail, and nothing else: silent before the first, and at the end.
    notes = bench.whole.outcome.output_notes
    names = [t.key for t in bench.whole.outcome.tracks]
    starts = notes.start[notes.track == names.index("kick")]
    first = int(starts[0] * rate)
    assert np.abs(sound[: max(1, first - 10)]).max() == 0
    assert np.abs(sound[first : first + rate // 20]).max() > 0.01
    assert np.abs(sound[-200:]).max() < 0.001
    assert len(sound) / rate > starts[-1] + 0.05
    after, along = sent(window, monkeypatch)
    assert kicks(after, window) == 0
    assert len(after) == len(before) - 2 * kicks(before, window)
    assert [row["path"] for row in along] == [made.path]
    # At the level of the built-in sound when it was rendered, it sounds as before.
    assert along[0]["level"] == pytest.approx(-20 * np.log10(bench.session.sound.level))
    # As played, and muted, it is the notes that count.
    window.services.playback.set_version("played")
    assert sent(window, monkeypatch)[1] == []
    window.services.playback.set_version("clean")
    bench.do("mute", edits.with_tracks(bench.session, [replace(bench.session.delivery.track("kick"), muted=True)]))
    after, along = sent(window, monkeypatch)
    assert (kicks(after, window), along) == (0, [])


def test_a_change_says_that_it_is_stale_and_unfreezing_gives_the_notes_back(window, qtbot, monkeypatch):
    freeze(window, qtbot, "Kick", "Snare")
    bench = window.workbench
    assert (words(window, "Kick"), words(window, "Snare")) == ("frozen", "frozen")
    moved = replace(bench.session.delivery.track("kick"), offset=20.0)
    bench.do("later", edits.with_tracks(bench.session, [moved]))
    assert (words(window, "Kick"), words(window, "Snare")) == ("stale", "frozen")
    outputs = window.view("Outputs")
    pick(outputs, "Kick")
    assert outputs.play.freeze.text() == "Freeze again"
    assert "Something has changed" in outputs.play.state.text()
    old = Path(bench.session.delivery.track("kick").frozen.path)
    freeze(window, qtbot, "Kick")
    assert words(window, "Kick") == "frozen"
    assert bench.session.delivery.track("kick").frozen.path != str(old)
    # It is kept with the session; where the file is gone, the notes play.
    content = session_file.to_bytes(bench.session, dict(bench.store.by_ident))
    opened = session_file.parse(content, "s").session
    assert opened.delivery == bench.session.delivery
    Path(bench.session.delivery.track("kick").frozen.path).unlink()
    outputs.show_take(bench.whole)
    assert words(window, "Kick") == "rendering gone"
    assert kicks(sent(window, monkeypatch)[0], window) > 4
    pick(outputs, "Snare")
    assert outputs.play.freeze.text() == "Unfreeze"
    qtbot.mouseClick(outputs.play.freeze, Qt.MouseButton.LeftButton)
    assert words(window, "Snare") == "yes"
    bench.undo()
    assert words(window, "Snare") == "frozen"


def test_a_track_of_a_port_is_not_frozen_and_that_is_said(window, qtbot):
    bench, told = window.workbench, []
    bench.message_shown.connect(lambda text, _: told.append(text))
    bench.do(
        "to", edits.with_tracks(bench.session, [replace(bench.session.delivery.track("kick"), port=ports.RECEIVER)])
    )
    outputs = window.view("Outputs")
    pick(outputs, "Kick")
    qtbot.mouseClick(outputs.play.freeze, Qt.MouseButton.LeftButton)
    assert "cannot be frozen" in told[-1]
    assert bench.session.delivery.track("kick").frozen is None


def test_hidden_tracks_are_out_of_both_lists_but_still_in_the_file(window, qtbot):
    bench, outputs = window.workbench, window.view("Outputs")
    before = bench.midi_bytes()
    groups = {group.key for group in window.takes.timeline.row_layout.picture.groups}
    assert {"kick", "snare"} <= groups
    pick(outputs, "Kick", "Snare")
    action = next(one for one in outputs.menu().actions() if one.text() == "Hide")
    action.trigger()
    shown = [outputs.model.track(i).track.key for i in range(outputs.model.rowCount())]
    assert not {"kick", "snare"} & set(shown)
    assert outputs.hidden.text() == "2 hidden"
    window.show_view("Takes")
    assert {group.key for group in window.takes.timeline.row_layout.picture.groups} == groups - {"kick", "snare"}
    assert bench.midi_bytes() == before
    window.show_view("Outputs")
    qtbot.mouseClick(outputs.hidden, Qt.MouseButton.LeftButton)
    assert outputs.model.rowCount() == len(shown) + 2
    pick(outputs, "Kick")
    next(one for one in outputs.menu().actions() if one.text() == "Show").trigger()
    assert outputs.hidden.text() == "1 hidden"
    shown_all = edits.without_hidden_tracks(bench.session)
    assert not any(track.hidden for track in shown_all.delivery.tracks)


def test_a_level_says_what_it_does_and_by_velocity_makes_the_notes_softer(window, qtbot):
    bench, outputs = window.workbench, window.view("Outputs")
    pick(outputs, "Kick")
    assert outputs.play.drives.text() == "built-in sound"
    bench.do(
        "to", edits.with_destination(bench.session, edits.Destination("Rack", ports.RECEIVER, drives="velocity"))
    )  # fmt: skip
    own = replace(bench.session.delivery.track("kick"), port="Rack", level=64)
    bench.do("level", edits.with_tracks(bench.session, [replace(own, level=None)]))
    before = velocities(bench)
    bench.do("level", edits.with_tracks(bench.session, [own]))
    pick(outputs, "Kick")
    assert outputs.play.drives.text() == "velocity"
    assert velocities(bench) == [max(1, round(v * 64 / 127)) for v in before]
    assert not controllers(bench)
    bench.do(
        "by controller", edits.with_destination(bench.session, edits.Destination("Rack", ports.RECEIVER))
    )  # fmt: skip
    pick(outputs, "Kick")
    assert outputs.play.drives.text() == "controller 7"
    assert velocities(bench) == before
    assert controllers(bench) == [64]


def messages(bench):
    import io

    import mido

    file = mido.MidiFile(file=io.BytesIO(bench.midi_bytes()))
    return [message for track in file.tracks if track.name == "Kick" for message in track]


def velocities(bench):
    return [m.velocity for m in messages(bench) if m.type == "note_on" and m.velocity]


def controllers(bench):
    return [m.value for m in messages(bench) if m.type == "control_change" and m.control == 7]
