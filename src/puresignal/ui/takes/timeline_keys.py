"""The keys of the timeline, and what they ask for."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent

_KEY = Qt.Key
_NONE = Qt.KeyboardModifier.NoModifier
_CONTROL, _SHIFT, _ALT = (
    Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.AltModifier,
)  # fmt: skip

ACTIONS = {
    _KEY.Key_Delete: "remove",
    _KEY.Key_X: "remove",
    _KEY.Key_Insert: "keep",
    _KEY.Key_K: "keep",
    _KEY.Key_U: "automatic",
    _KEY.Key_D: "next_doubtful",
    _KEY.Key_E: "hear",
    _KEY.Key_J: "other_line",
    _KEY.Key_BracketLeft: "half_speed",
    _KEY.Key_BracketRight: "double_speed",
    _KEY.Key_Comma: "bars_earlier",
    _KEY.Key_Period: "bars_later",
    _KEY.Key_T: "tap_beat",
}
"""Keys that ask for something whatever is selected."""

EDITS = {
    (_KEY.Key_Left, _CONTROL): "earlier",
    (_KEY.Key_Right, _CONTROL): "later",
    (_KEY.Key_Left, _CONTROL | _SHIFT): "nudge_earlier",
    (_KEY.Key_Right, _CONTROL | _SHIFT): "nudge_later",
    (_KEY.Key_Up, _CONTROL): "up",
    (_KEY.Key_Down, _CONTROL): "down",
    (_KEY.Key_Up, _CONTROL | _SHIFT): "octave_up",
    (_KEY.Key_Down, _CONTROL | _SHIFT): "octave_down",
    (_KEY.Key_Left, _CONTROL | _ALT): "tick_earlier",
    (_KEY.Key_Right, _CONTROL | _ALT): "tick_later",
    (_KEY.Key_Up, _CONTROL | _ALT): "copy_octave_up",
    (_KEY.Key_Down, _CONTROL | _ALT): "copy_octave_down",
    (_KEY.Key_Up, _SHIFT): "louder",
    (_KEY.Key_Down, _SHIFT): "softer",
    (_KEY.Key_Right, _SHIFT): "longer",
    (_KEY.Key_Left, _SHIFT): "shorter",
    (_KEY.Key_C, _CONTROL): "copy",
    (_KEY.Key_X, _CONTROL): "cut",
    (_KEY.Key_V, _CONTROL): "paste",
    (_KEY.Key_D, _CONTROL): "duplicate",
    (_KEY.Key_Z, _SHIFT): "take_back",
    (_KEY.Key_Y, _NONE): "split",
    (_KEY.Key_Y, _SHIFT): "join",
}
"""Keys that edit the selected notes."""

STEPS = {_KEY.Key_Right: "step_right", _KEY.Key_Left: "step_left", _KEY.Key_Backspace: "step_back"}
"""Keys while notes are entered step by step."""

MOVES = {_KEY.Key_Left: -0.1, _KEY.Key_Right: 0.1, _KEY.Key_PageUp: -0.9, _KEY.Key_PageDown: 0.9}
"""Keys that move the view, by parts of what is in it."""


def edit_of(event: QKeyEvent, selected: bool, stepping: bool) -> str:
    """The edit that a key stands for, empty for none.

    selected  whether notes are; stepping: whether notes are entered step by step
    """
    pressed = event.modifiers() & (_CONTROL | _SHIFT | _ALT)
    if stepping and not pressed and event.key() in STEPS:
        return STEPS[Qt.Key(event.key())]
    name = EDITS.get((Qt.Key(event.key()), pressed), "")
    return name if name == "paste" or selected else ""


def action_of(event: QKeyEvent) -> str:
    """What a key asks for whatever is selected, empty for nothing."""
    if event.modifiers() & _CONTROL or event.key() not in ACTIONS:
        return ""
    if event.key() == Qt.Key.Key_D and event.modifiers() & _SHIFT:
        return "previous_doubtful"
    return ACTIONS[Qt.Key(event.key())]
