"""Screenshots of every main view, made from the demo session, without a display."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtWidgets import QApplication

from puresignal.commands.clean import make_folder
from puresignal.core.analysis.sung import syllables
from puresignal.core.path.doubles import DOUBLE
from puresignal.core.path.tally import Action
from puresignal.core.session import recording
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import with_input
from puresignal.core.touch import surface
from puresignal.io import audio_file, file_access, ports
from puresignal.sim import singer
from puresignal.translation import tr
from puresignal.ui.inputs.found_ports import add_input
from puresignal.ui.shell.demo_window import demo_window
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.widgets import theme


def render(app: object, folder: Path) -> Iterator[Path]:
    """Render the views to a folder, one PNG each, and yield their paths.

    Raises FileAccessError if the folder or a file cannot be written
    """
    assert isinstance(app, QApplication)
    make_folder(folder)
    for current in (theme.LIGHT, theme.DIM):
        theme.apply(app, current)
        window = demo_window()
        window.resize(1280, 800)
        window.show()
        suffix = "" if current is theme.LIGHT else "-dim"
        for name in window.view_names if current is theme.LIGHT else DIM:
            window.show_view(name)
            window.view(name).prepare_screenshot()
            yield _grab(app, window, folder / f"{name.lower()}{suffix}.png")
        if current is theme.LIGHT:
            yield from _live(app, window, folder)
            window.strip.figures[Action.REMOVED, DOUBLE].click()
            yield _grab(app, window, folder / "takes-doubles.png")
        window.asks_before_closing = False
        window.close()
    theme.apply(app, theme.LIGHT)
    yield from _time(app, folder)
    yield from _refined(app, folder)
    yield from _made(app, folder)
    theme.apply(app, theme.LIGHT)


def _time(app: QApplication, folder: Path) -> Iterator[Path]:
    """A loop being recorded with the sitting strip under it, the choice row, and the beats of a take."""
    window = demo_window()
    window.resize(1280, 800)
    window.show()
    bench, playback = window.workbench, window.playback
    window.show_view("Takes")
    for first, after, name in ((1, 3, tr("Verse")), (3, 7, tr("Chorus"))):
        begin, end = (playback.second_of(bench.timeline.bar_to_beats(bar)) for bar in (first, after))
        playback.set_span((begin, end))
        window.services.sections.make()
        window.services.sections.rename(name)
    window.services.sections.set_repeats(2)
    playback.set_span(None)
    window.services.take_actions.make_alternative("take1", "take2")
    window.services.take_actions.choose_for_bars(2, 4, "take2")
    yield _grab(app, window, folder / "choices.png")
    window.takes.show_beats(True)
    yield _grab(app, window, folder / "beats.png")
    window.takes.show_beats(False)
    while bench.history.past:
        bench.undo()
    window.services.take_actions.switch(False, "take1")
    window.inputs.play_device(ports.DRUM_MODULE, True)
    window.show_view("Takes")
    clicks = replace(bench.session.recording.click, when=recording.NEVER)
    settings = replace(bench.session.recording, start=recording.AT_ONCE, click=clicks)
    bench.do("record at once", edits.with_recording(bench.session, settings))  # not shown
    _wait(app, 3.0)
    playback.set_span((playback.second_of(4.0), playback.second_of(8.0)))
    playback.set_looping(True)
    window.services.capture.begin()
    _wait(app, LISTEN_SECONDS)
    yield _grab(app, window, folder / "recording.png")
    window.services.capture.end()
    window.live_session.stop()
    window.asks_before_closing = False
    window.close()


def _refined(app: QApplication, folder: Path) -> Iterator[Path]:
    """A take on its grid, with the list of events; and a hummed line that was heard."""
    window = demo_window()
    window.resize(1280, 800)
    window.show()
    bench = window.workbench
    window.show_view("Takes")
    path = replace(bench.session.path, timing=replace(bench.session.path.timing, on=True))
    bench.do("quantise", edits.with_path(bench.session, path))  # not shown
    window.takes.toggle_list()
    window.takes.timeline.zoom(2.5)
    window.takes.path.boxes["timing"].setFocus()
    yield _grab(app, window, folder / "quantise.png")
    window.takes.toggle_list()
    bench.undo()
    pitched = next(ref for ref in bench.session.takes if ref.source is None)
    bench.do("choose take", edits.with_current(bench.session, pitched.ident))  # not shown
    window.takes.toggle_alone()
    window.takes.tools.degrees.setChecked(True)
    window.takes.toggle_words()
    sung = window.takes.words.line
    if sung is not None:
        words = syllables(tr("Quar-ter past, the fer-ry turns, and no one waves the har-bour off a-gain"))
        window.takes.lyrics.type_words(dict(zip(sung.origin.tolist(), words, strict=False)))
    window.takes.lyrics.type_marker(8.0, tr("brakes"), None)
    window.takes.timeline.zoom(2.0)
    yield _grab(app, window, folder / "words.png")
    window.takes.toggle_words()
    window.takes.tools.degrees.setChecked(False)
    window.files.new_session()
    with tempfile.TemporaryDirectory() as here:
        sound = Path(here) / tr("hummed verse.wav")
        chance = np.random.default_rng(4)
        line = singer.line(chance, 16.0, 52, 69)
        audio_file.write_wav(sound, singer.perform(line, singer.SingingStyle(), 44_100, 3), 44_100)
        window.files.open_files([sound])
        window.files.hear(sound, "melody")
        end = time.monotonic() + 60
        while window.services.listener.busy and time.monotonic() < end:
            _wait(app, 0.1)
        window.show_view("Takes")
        _wait(app, 0.5)
        yield _grab(app, window, folder / "heard.png")
    window.asks_before_closing = False
    window.close()


def _made(app: QApplication, folder: Path) -> Iterator[Path]:
    """Chords, a bass line and drums made by recipes; the touch surface; a voice at the microphone."""
    window = demo_window()
    window.resize(1280, 800)
    window.show()
    window.files.new_session()
    bench, generators = window.workbench, window.services.generators
    bench.do("choose key", edits.with_key(bench.session, "D minor"))  # not shown
    for kind in ("drums", "chords", "bass"):
        generators.add(kind)
    window.show_view("Takes")
    yield _grab(app, window, folder / "generated.png")
    add_input(window.services, ports.TOUCH)
    window.services.touch.set(way=surface.LATTICE)
    window.show_view("Inputs")
    _wait(app, 1.0)
    window.services.touch.press(1, 0.4, 0.4)
    _wait(app, 0.3)
    yield _grab(app, window, folder / "touch.png")
    window.services.touch.lift_all()
    window.live_session.stop()
    window.asks_before_closing = False
    window.close()


LISTEN_SECONDS = 6.0
DIM = ("Takes", "Mapping")
"""Views that are shown in the dim theme as well."""


def _live(app: QApplication, window: MainWindow, folder: Path) -> Iterator[Path]:
    """Two simulated devices play for a while, shown in Inputs and in Mapping; no server or hardware is needed."""
    inputs = window.inputs
    inputs.play_device(ports.DRUM_MODULE, True)
    inputs.play_device(ports.KEYBOARD, True)
    bench = window.workbench
    heard = with_input(bench.session.inputs, 0, output=ports.RECEIVER)
    bench.do("choose destination", edits.with_inputs(bench.session, heard))  # not shown
    window.services.chosen_input.choose(0)
    window.show_view("Inputs")
    _wait(app, LISTEN_SECONDS)
    yield _grab(app, window, folder / "live.png")
    window.show_view("Mapping")
    _wait(app, 1.0)
    yield _grab(app, window, folder / "live-mapping.png")
    window.live_session.stop()


def _wait(app: QApplication, seconds: float) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        app.processEvents()
        time.sleep(0.005)


def _grab(app: QApplication, window: MainWindow, path: Path) -> Path:
    from PySide6.QtCore import QBuffer, QIODevice

    app.processEvents()
    # What is worked out beside the window belongs into its picture.
    window.services.background.wait(5.0)
    app.processEvents()
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    window.grab().toImage().save(buffer, "PNG")  # type: ignore[call-overload]  # the stub knows no text here
    file_access.write_bytes(path, bytes(buffer.data().data()))
    return path
