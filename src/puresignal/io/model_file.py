"""The arrays of a trained model that ships with the program."""

from __future__ import annotations

import io
from importlib import resources

import numpy as np


def arrays_of(name: str) -> dict[str, np.ndarray]:
    """The arrays of models/NAME.npz, by their names, as float32."""
    content = (resources.files("puresignal") / "models" / f"{name}.npz").read_bytes()
    with np.load(io.BytesIO(content)) as data:
        return {each: np.asarray(data[each], np.float32) for each in data.files}
