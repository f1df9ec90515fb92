"""The models that ship with the program, read once."""

from __future__ import annotations

import io
from functools import lru_cache
from importlib import resources

import numpy as np

from puresignal.core.hearing.drums import Network


@lru_cache(maxsize=1)
def drums() -> Network:
    """The network that tells drums apart (bench/train_drums.py makes it)."""
    content = (resources.files("puresignal") / "io" / "models" / "drums.npz").read_bytes()
    with np.load(io.BytesIO(content)) as data:
        return Network(**{name: data[name].astype(np.float64) for name in data.files})
