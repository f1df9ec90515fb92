"""A simulated singer and a mouth drummer at the microphone of the real window; then the takes, the sound, the bytes."""

from __future__ import annotations

import io
from dataclasses import replace
from pathlib import Path

import mido
import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt

from puresignal.core.session import recording
from puresignal.core.session import session as edits
from puresignal.core.session.take_ref import SOUND
from puresignal.io import ports, profiles
from puresignal.sim import voices
from puresignal.ui.inputs.found_ports import add_input


@pytest.fixture
def window(demo_window, monkeypatch, qtbot):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    window = demo_window
    window.show_view("Inputs")
    bench = window.services.workbench
    settings = replace(bench.session.recording, start=recording.AT_ONCE)
    bench.do("record at once", edits.with_recording(bench.session, settings))
    yield window
    window.services.live_session.close()


def face_of(window, port, qtbot):
    add_input(window.services, port)
    face = window.view("Inputs").microphone
    qtbot.waitUntil(face.isVisible, timeout=3000)
    return face


def choose(combo, value):
    combo.setCurrentIndex(combo.findData(value))
    combo.activated.emit(combo.currentIndex())


def test_a_singer_is_seen_recorded_and_written_with_the_sound_beside(window, qtbot):
    services = window.services
    face, microphone, bench = face_of(window, ports.MIC_MELODY, qtbot), services.microphone, services.workbench
    assert not window.view("Inputs").live.editors[-1].learn.isVisible()
    bare = face.picture.grab().toImage()
    choose(face.source, "singer")
    qtbot.waitUntil(lambda: microphone.state.get("heard", 0) >= 2, timeout=20_000)
    assert face.picture.grab().toImage() != bare
    assert face.last.text().startswith("Last note: ")
    qtbot.waitUntil(lambda: face.picture.words() in ("A3", "C4", "E4", "D4", "G3"), timeout=8000)
    before = len(bench.session.takes)
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    heard = microphone.state["heard"]
    qtbot.waitUntil(lambda: microphone.state.get("heard", 0) >= heard + 5, timeout=20_000)
    qtbot.wait(500)
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(bench.session.takes) == before + 2, timeout=10_000)
    notes, sound = bench.session.takes[-2:]
    assert sound.kind == SOUND
    kept, rate = soundfile.read(sound.sound.path)
    assert Path(sound.sound.path).suffix == ".flac"
    # Each note of the take stands on sound of its pitch.
    timeline = bench.timeline
    take = bench.store[notes.material]
    on = (take.events.status & 0xF0 == 0x90) & (take.events.data2 > 0)
    begins = timeline.beats_to_seconds(notes.beat + notes.grid.seconds_to_beats(take.events.arrived[on]))
    zero = float(timeline.beats_to_seconds(np.array([sound.beat]))[0])
    checked = 0
    for at, note in zip((begins - zero).tolist(), take.events.data1[on].tolist(), strict=True):
        part = kept[round((at + 0.02) * rate) : round((at + 0.14) * rate)]
        if at > 0.05 and len(part) > 4000:
            wanted, size = 440 * 2 ** ((note - 69) / 12), 1 << 16
            spectrum = np.abs(np.fft.rfft(part * np.hanning(len(part)), size))
            hertz = np.arange(len(spectrum)) * rate / size
            near = spectrum[(hertz > 0.94 * wanted) & (hertz < 1.06 * wanted)].max()
            beside = spectrum[(hertz > 1.12 * wanted) & (hertz < 1.35 * wanted)].max()
            assert near > 2 * beside
            checked += 1
    assert checked >= 3
    file = mido.MidiFile(file=io.BytesIO(bench.midi_bytes()))
    written = [m.note for m in file if m.type == "note_on" and m.velocity and m.channel == 0]
    assert set(take.events.data1[on].tolist()) <= set(written)


def test_what_was_named_too_early_is_corrected_from_the_sound_in_one_step(window, qtbot, monkeypatch):
    services = window.services
    face, microphone, bench = face_of(window, ports.MIC_MELODY, qtbot), services.microphone, services.workbench
    choose(face.source, "singer")
    qtbot.waitUntil(lambda: microphone.state.get("heard", 0) >= 1, timeout=20_000)
    # The live ear names every note a semitone too high; the sound knows better.
    face.shift.setValue(1)
    qtbot.wait(300)
    before = len(bench.session.takes)
    told = []
    monkeypatch.setattr(services.notices, "tell", lambda text, wrong=False: told.append(text))
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    heard = microphone.state["heard"]
    qtbot.waitUntil(lambda: microphone.state.get("heard", 0) >= heard + 5, timeout=20_000)
    microphone.change(shift=0)
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(bench.session.takes) == before + 2, timeout=10_000)
    ident = bench.session.takes[-2].ident
    qtbot.waitUntil(lambda: len(bench.session.take(ident).edits) > 0, timeout=20_000)
    edits = bench.session.take(ident).edits
    assert {edits.get(int(origin)).up for origin in edits.origins} == {-1}
    assert len(edits) >= 3
    qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert len(bench.session.take(ident).edits) == 0


def test_a_key_and_a_chord_act_at_once(window, qtbot):
    services = window.services
    face, microphone = face_of(window, ports.MIC_MELODY, qtbot), services.microphone
    choose(face.source, "singer")
    choose(face.key, "C major")
    choose(face.chord, "triad")
    qtbot.waitUntil(lambda: len(microphone.state.get("sounding", [])) == 3, timeout=20_000)
    root, third, fifth = microphone.state["sounding"]
    assert {root % 12, third % 12, fifth % 12} <= {0, 2, 4, 5, 7, 9, 11}
    assert fifth - root in (6, 7)
    assert profiles.read(microphone.profile.name).settings.chord == "triad"


def test_sounds_are_taught_on_the_face_and_play_drums(window, qtbot):
    services = window.services
    face, microphone = face_of(window, ports.MIC_HITS, qtbot), services.microphone
    choose(face.source, "mouth")
    qtbot.waitUntil(lambda: "Nothing is taught yet" in face.says.text(), timeout=20_000)
    for drum in voices.MOUTH:
        qtbot.mouseClick(face.teach[drum], Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda d=drum: microphone.taught().get(d, 0) >= 4, timeout=20_000)
        assert "so far" in face.says.text()
        qtbot.mouseClick(face.teach[drum], Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: not microphone.teaching, timeout=5000)
    qtbot.waitUntil(lambda: "told" in face.apart.text(), timeout=5000)
    arrived = []
    services.live_session.hit_received.connect(lambda number, name, velocity, unmapped: arrived.append(name))
    qtbot.waitUntil(lambda: len(arrived) >= 8, timeout=20_000)
    assert {"kick", "hi-hat, closed"} <= set(arrived)
    qtbot.mouseClick(face.forget["kick"], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "kick" not in microphone.state["taught"], timeout=5000)
    assert profiles.taught(microphone.profile.name).keys() == {"snare.head", "hat.closed"}


def test_taught_sounds_that_were_mistaken_are_corrected_from_the_sound_in_one_step(window, qtbot, monkeypatch):
    services = window.services
    microphone, bench = services.microphone, services.workbench
    place = profiles.sounds_of(microphone.profile.name)
    for drum in voices.MOUTH:
        stream = voices.examples(44_100, drum, 3)
        for _ in range(4):
            sound = next(stream)[0]
            profiles.add_example(place, drum, sound[: round(0.45 * 44_100)], 44_100)
    face = face_of(window, ports.MIC_HITS, qtbot)
    choose(face.source, "mouth")
    qtbot.waitUntil(lambda: microphone.state.get("heard", 0) >= 2, timeout=20_000)
    before, told = len(bench.session.takes), []
    monkeypatch.setattr(services.notices, "tell", lambda text, wrong=False: told.append(text))
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    heard = microphone.state["heard"]
    qtbot.waitUntil(lambda: microphone.state.get("heard", 0) >= heard + 10, timeout=20_000)
    # Whoever listens afterwards knows the kick's examples as the snare's, and the other way round.
    (place / "kick").rename(place / "x")
    (place / "snare.head").rename(place / "kick")
    (place / "x").rename(place / "snare.head")
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(bench.session.takes) == before + 2, timeout=10_000)
    ident = bench.session.takes[-2].ident
    qtbot.waitUntil(lambda: len(bench.session.take(ident).edits) > 0, timeout=30_000)
    ref = bench.session.take(ident)
    played = bench.store[ref.material].events.data1
    became = {(int(played[o]), ref.edits.get(int(o)).articulation) for o in ref.edits.origins}
    assert {(36, "snare.head"), (38, "kick")} <= became
    assert all(drum in ("", "kick", "snare.head") for _, drum in became)
    assert "with another drum" in told[-1]
    kept = len(bench.session.takes)
    qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert len(bench.session.take(ident).edits) == 0
    assert len(bench.session.takes) <= kept


def test_two_people_at_one_microphone_are_noticed(window, qtbot):
    face, microphone = face_of(window, ports.MIC_MELODY, qtbot), window.services.microphone
    choose(face.source, "singer")
    qtbot.waitUntil(lambda: microphone.state.get("heard", 0) >= 1, timeout=20_000)
    assert not microphone.state["several"]
    assert "Two voices" not in face.says.text()
    microphone.state = {**microphone.state, "several": True}
    assert "one singer" in microphone.problem()


def test_calibrating_sets_the_threshold_between_room_and_voice(window, qtbot):
    services = window.services
    face, microphone = face_of(window, ports.MIC_HITS, qtbot), services.microphone
    choose(face.source, "mouth")
    qtbot.waitUntil(lambda: microphone.state.get("system") == "simulated", timeout=20_000)
    # While a tom is taught, of which the simulated mouth knows nothing, it is quiet.
    microphone.teach("tom1.head")
    qtbot.waitUntil(lambda: microphone.state["level"] < -58, timeout=8000)
    qtbot.mouseClick(face.calibrate, Qt.MouseButton.LeftButton)
    assert "Be quiet" in face.says.text()
    qtbot.waitUntil(lambda: microphone.calibrating == "loud", timeout=5000)
    assert -62 <= microphone.profile.settings.gate <= -48
    microphone.teach(None)
    told = []
    microphone.told.connect(lambda text, wrong: told.append((text, wrong)))
    qtbot.waitUntil(lambda: bool(told), timeout=8000)
    assert told[0][0].startswith("Calibrated")


def test_without_a_microphone_the_face_says_what_to_do(window, qtbot):
    face, microphone = face_of(window, ports.MIC_MELODY, qtbot), window.services.microphone
    choose(face.source, "singer")
    microphone.set_source("A microphone that was unplugged")
    qtbot.waitUntil(lambda: "icrophone" in face.says.text() or "PortAudio" in face.says.text(), timeout=15_000)
    assert "(unavailable)" in face.source.itemText(face.source.count() - 1)


@pytest.mark.parametrize(
    ("late", "spread", "said"), [(0.061, 0.012, "from"), (0.0234, 0.0002, "hears the click itself")]
)
def test_the_delay_is_measured_by_clapping_or_by_the_click_that_the_microphone_hears(
    window, qtbot, monkeypatch, late, spread, said
):
    from puresignal.ui.state import clap_meter

    monkeypatch.setattr(clap_meter, "APART", 0.25)
    monkeypatch.setattr(clap_meter, "FIRST", 2)
    services = window.services
    face, microphone, told = face_of(window, ports.MIC_HITS, qtbot), services.microphone, []
    microphone.told.connect(lambda text, _: told.append(text))
    choose(face.source, "mouth")
    qtbot.waitUntil(lambda: microphone.running and microphone.state.get("system") == "simulated", timeout=15_000)
    random = np.random.default_rng(5)
    commands = []
    monkeypatch.setattr(microphone, "listen_for_claps", commands.append)
    qtbot.mouseClick(face.clap, Qt.MouseButton.LeftButton)
    assert services.clap_meter.running
    assert "Clap along" in face.says.text()

    def clap():
        """As hands, or a loudspeaker, beside the clicks that left."""
        clicks = services.clap_meter.clicks()
        state = {**microphone.state, "claps": (clicks + late + random.normal(0, spread, len(clicks))).tolist()}
        monkeypatch.setattr(microphone, "state", state)

    services.clap_meter._end.timeout.disconnect()
    services.clap_meter._end.timeout.connect(
        lambda: (clap(), services.clap_meter._hear(), services.clap_meter._finish())
    )
    qtbot.waitUntil(lambda: not services.clap_meter.running, timeout=15_000)
    assert said in told[-1]
    assert microphone.profile.delay == pytest.approx(1000 * late, abs=12 if spread > 0.01 else 0.4)
    assert face.delay.value() == pytest.approx(microphone.profile.delay)
    assert commands == [True, False]
