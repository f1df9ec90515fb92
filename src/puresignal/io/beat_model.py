"""The trained networks that look at paths of beats, read once.

Apart from the models of the ear: whoever finds beats need not wait for what hears sound.
"""

from __future__ import annotations

from functools import lru_cache

from puresignal.core.timing import beat_network
from puresignal.core.timing.beat_network import BeatNetworks
from puresignal.io.model_file import arrays_of


@lru_cache(maxsize=1)
def shipped() -> BeatNetworks:
    """The networks that ship with the program (made by training/train_beats.py)."""
    return beat_network.from_arrays(arrays_of("beats"))
