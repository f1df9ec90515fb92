"""The trained models that ship with the program, each read once."""

from __future__ import annotations

import io
from functools import lru_cache
from importlib import resources

import numpy as np

from puresignal.core.hearing.calibration import ConfidenceCurve
from puresignal.core.hearing.melody.candidates import PitchNetworks
from puresignal.core.hearing.networks import attention, convolutional, harmonic
from puresignal.core.hearing.networks.attention import AttentionEnsemble
from puresignal.core.hearing.networks.convolutional import ConvNet
from puresignal.core.hearing.networks.dense import Network, from_arrays
from puresignal.core.hearing.networks.harmonic import HarmonicNet
from puresignal.core.hearing.percussion.example_classifier import FeatureSpace
from puresignal.core.timing.beat_network import BeatNetwork
from puresignal.core.timing.beat_network import from_arrays as beat_network_of


def _arrays(name: str) -> dict[str, np.ndarray]:
    content = (resources.files("puresignal") / "models" / f"{name}.npz").read_bytes()
    with np.load(io.BytesIO(content)) as data:
        return {each: np.asarray(data[each], np.float32) for each in data.files}


@lru_cache(maxsize=4)
def dense_net(name: str) -> Network:
    """A dense network of the ear: multipitch or live_pitch (made by training/train_ear.py)."""
    return from_arrays(_arrays(name))


@lru_cache(maxsize=4)
def conv_net(name: str) -> ConvNet:
    """A convolutional network of the ear: onset or drum_onset."""
    return convolutional.from_arrays(_arrays(name))


@lru_cache(maxsize=2)
def pitch_networks(beneath: bool = False) -> PitchNetworks:
    """The networks that hear which notes one voice may sing (made by training/train_melody.py, train_ear.py).

    beneath  whether others play beneath it
    """
    return PitchNetworks(dense_net("melody_pitch"), dense_net("multipitch"), chord_network() if beneath else None)


@lru_cache(maxsize=1)
def chord_network() -> HarmonicNet:
    """The network that hears chords (made by training/train_chords.py)."""
    return harmonic.from_arrays(_arrays("chords"))


@lru_cache(maxsize=1)
def beat_network() -> BeatNetwork:
    """The network that looks at paths of beats (made by training/train_beats.py)."""
    return beat_network_of(_arrays("beats"))


@lru_cache(maxsize=1)
def attention_nets() -> AttentionEnsemble:
    """The networks that compare the strokes of a drum recording with each other."""
    return attention.from_arrays(_arrays("drum_attention"))


@lru_cache(maxsize=1)
def feature_space() -> FeatureSpace:
    """The feature space of taught sounds."""
    return FeatureSpace(_arrays("strokes")["turn"])


@lru_cache(maxsize=1)
def live_feature_space() -> FeatureSpace:
    """The feature space of taught sounds by their first moments, for live use."""
    return FeatureSpace(_arrays("live_strokes")["turn"])


@lru_cache(maxsize=1)
def chord_confidence() -> ConfidenceCurve:
    """What turns the confidence of notes of chords into chances (made by training/calibrate.py)."""
    arrays = _arrays("calibration")
    return ConfidenceCurve(arrays["chords_raw"], arrays["chords_chance"])
