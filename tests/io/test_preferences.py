"""The preferences: every one of them is there again at the next start."""

from __future__ import annotations

from dataclasses import fields

from puresignal.core.touch.computer_keyboard import Keyboard
from puresignal.core.touch.hand_control import ACTIONS, NOTE, Trigger
from puresignal.core.touch.surface import SurfaceSettings
from puresignal.io import preferences
from puresignal.io.preferences import Preferences, SoundOut

ALL = Preferences(
    theme="dim",
    geometry=b"\x01\x02",
    recent=("/home/me/ferry.pure",),
    keyboard=Keyboard(octave=3, velocity=77),
    sound=SoundOut("Desk", 96_000, 128),
    shortcuts=(("Play / stop", "P"),),
    controls=((sorted(ACTIONS)[0], Trigger("Foot switch", NOTE, 3, 40)),),
    learn_live=True,
    voice="Ada",
    surface=SurfaceSettings("rows", 5, 10, 40, "D minor", 7, 1, "bend", True, -30.0, 1),
    chord_book="Ferry",
    tells_kept=False,
    language="de",
)


def test_every_preference_is_kept(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    usual = Preferences()
    # A new preference has to be set above, so that this test speaks of it.
    assert all(getattr(ALL, field.name) != getattr(usual, field.name) for field in fields(Preferences))
    preferences.write(ALL)
    assert preferences.read() == ALL
