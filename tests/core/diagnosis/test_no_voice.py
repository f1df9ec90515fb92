"""Why a microphone plays nothing: each thing that can be wrong is said, the first one first."""

from __future__ import annotations

from dataclasses import replace

import pytest

from puresignal.core.diagnosis.no_voice import VoiceState, problem

WELL = VoiceState(True, "JACK", "", -30.0, -15.0, -65.0, -57.0, 0, 60.0, 36, 84, True, 0, 5)


def test_where_all_is_well_nothing_is_said():
    assert problem(WELL) == ""
    assert problem(replace(WELL, melody=False, taught=3)) == ""


@pytest.mark.parametrize(
    ("changed", "word"),
    [
        ({"listening": False}, "Start"),
        ({"system": "", "why": "There is no microphone (Desk). Plug one in."}, "There is no microphone"),
        ({"melody": False}, "Nothing is taught"),
        ({"loudest": -118.0}, "silence"),
        ({"loudest": -60.0}, "too soft: -60 dB"),
        ({"lost": 9}, "loses sound"),
        ({"clipped": 9}, "clips"),
        ({"gate": -10.0}, "threshold of -10 dB"),
        ({"floor": -24.0, "loudest": -20.0, "gate": -30.0}, "hum or noise at -24 dB"),
        ({"pitch": 30.0}, "outside the range"),
        ({"several": True}, "Two voices"),
    ],
)
def test_what_is_wrong_is_said_with_what_to_do(changed, word):
    assert word in problem(replace(WELL, **changed))
