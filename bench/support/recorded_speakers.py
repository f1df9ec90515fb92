"""Syllables said by people: the voices of flite and Festival were recorded from speakers.

Most are joined from recorded sounds, some were modelled on recordings. None is ever learnt from. Without the Debian
packages flite, festival and festvox-... a voice is missing.
"""

from __future__ import annotations

import subprocess
import tempfile
from functools import lru_cache
from pathlib import Path

import numpy as np
import soundfile
import soxr

RATE = 44_100
HIGH = {
    "slt": "flite", "suo_fi_lj_diphone": "festival", "lp_diphone": "festival", "czech_dita": "festival",
    "upc_ca_ona_hts": "festival", "czech_krb": "festival",
}  # fmt: skip
"""Voices of women and a child, and the program that speaks with them;"""
LOW = {
    "kal16": "flite", "awb": "flite", "rms": "flite", "hy_fi_mv_diphone": "festival", "pc_diphone": "festival",
    "ked_diphone": "festival",
}  # fmt: skip
"""and of men."""
PHONES = {"a": "aa1", "e": "ey1", "i": "iy1", "o": "ow1", "u": "uw1", "j": "y", "c": "ch", "x": "sh"}
"""How flite writes them; consonants not named here as they are."""


def say(text: str, voice: str, slow: float = 1.3, hertz: float = 0.0) -> np.ndarray | None:
    """A syllable in plain letters, (n,) float32 at RATE; None where the voice is missing.

    slow  times as long; hertz: its pitch, 0 as usual (flite only)
    """
    sound = _said(text, voice, slow, hertz)
    return None if sound is None else sound.copy()


@lru_cache(maxsize=2000)
def _said(text: str, voice: str, slow: float, hertz: float) -> np.ndarray | None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "said.wav"
        if (HIGH | LOW)[voice] == "flite":
            phones = " ".join(["pau", *(PHONES.get(letter, letter) for letter in text), "pau"])
            command = ["flite", "-voice", voice, "--setf", f"duration_stretch={slow}", "-p", phones, "-o", str(path)]
            command += ["--setf", f"int_f0_target_mean={hertz}"] if hertz else []
        else:
            script = Path(folder) / "say.scm"
            script.write_text(
                f'(voice_{voice})\n(Parameter.set "Duration_Stretch" {slow})\n'
                f'(utt.save.wave (utt.synth (Utterance Text "{text}")) "{path}")\n'
            )
            command = ["festival", "-b", str(script)]
        try:
            subprocess.run(command, check=True, capture_output=True)
            samples, rate = soundfile.read(path, dtype="float32")
        except (OSError, subprocess.CalledProcessError, soundfile.LibsndfileError):
            return None
    samples = np.asarray(soxr.resample(samples, rate, RATE), np.float32)
    level = np.convolve(np.abs(samples), np.ones(200) / 200, "same")
    loud = np.flatnonzero(level > 0.1 * level.max(initial=0.0))
    return samples[max(0, int(loud[0]) - 40) :] if len(loud) else None
