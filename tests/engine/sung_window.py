"""A voice at the microphone's port of the real window: recorded with the transport, and read from the bytes."""

from __future__ import annotations

import io
from dataclasses import replace

import mido
import soundfile
from PySide6.QtCore import Qt

from puresignal.core.session import recording
from puresignal.core.session import session as edits
from puresignal.core.session.take_ref import SOUND
from puresignal.io import ports, profiles
from puresignal.sim import voices
from puresignal.ui.inputs.found_ports import add_input
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench

RATE = 48_000


def taught(name: str) -> None:
    """The examples of the simulated mouth in a player's profile."""
    for drum in voices.MOUTH:
        stream = voices.examples(RATE, drum, 3)
        for _ in range(5):
            profiles.add_example(profiles.sounds_of(name), drum, next(stream)[0][: round(0.45 * RATE)], RATE)


def recorded(qtbot, monkeypatch, voice, port: str, system: str) -> tuple[list[int], list[int], float, int]:
    """Record the voice; what it sings is in voice.sound, and voice.play() begins it.

    Returns the notes of the take, those of the written file, seconds of sound that were kept, and the blocks that the
    ear lost to a busy machine
    """
    monkeypatch.setattr(MainWindow, "tells_kept", False)
    bench = Workbench()
    quiet = replace(bench.session.recording, start=recording.AT_ONCE)
    quiet = replace(quiet, click=replace(quiet.click, when=recording.NEVER))
    bench.show_session(edits.with_recording(bench.session, quiet), ())
    window = MainWindow(bench)
    qtbot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    window.show_view("Inputs")
    services = window.services
    microphone = services.microphone
    if port == ports.MIC_HITS:
        taught(microphone.profile.name)
    microphone.set_source("")
    add_input(services, port)
    try:
        qtbot.waitUntil(lambda: microphone.state.get("system") == system, timeout=20_000)
        voice.connect("Pure Signal ear:microphone")
        qtbot.wait(800)
        qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: services.capture.running, timeout=8000)
        qtbot.wait(400)
        lost = microphone.state["lost"]
        voice.play()
        qtbot.wait(round(1000 * len(voice.sound) / RATE) + 900)
        qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: len(bench.session.takes) >= 2, timeout=15_000)
        played = next(one for one in bench.session.takes if one.kind != SOUND)
        sound = next(one for one in bench.session.takes if one.kind == SOUND)
        events = bench.store[played.material].events
        on = (events.status & 0xF0 == 0x90) & (events.data2 > 0)
        file = mido.MidiFile(file=io.BytesIO(bench.midi_bytes()))
        written = [m.note for m in file if m.type == "note_on" and m.velocity]
        lost = microphone.state["lost"] - lost
        return events.data1[on].tolist(), written, soundfile.info(sound.sound.path).duration, lost
    finally:
        services.live_session.close()
        window.close()
