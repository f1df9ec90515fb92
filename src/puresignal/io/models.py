"""The trained models of the ear that ship with the program, each read once."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from puresignal.core.decision_trees import DecisionTrees
from puresignal.core.hearing.calibration import ConfidenceCurve
from puresignal.core.hearing.melody.candidates import PitchNetworks
from puresignal.core.hearing.melody.note_judge import NoteJudge
from puresignal.core.hearing.networks import attention, convolutional, harmonic
from puresignal.core.hearing.networks.attention import AttentionEnsemble
from puresignal.core.hearing.networks.convolutional import ConvNet
from puresignal.core.hearing.networks.dense import Network, from_arrays
from puresignal.core.hearing.networks.harmonic import HarmonicNet
from puresignal.core.hearing.percussion.example_classifier import FeatureSpace
from puresignal.io.model_file import arrays_of


@lru_cache(maxsize=4)
def dense_net(name: str) -> Network:
    """A dense network of the ear: multipitch or live_pitch (made by training/train_ear.py)."""
    return from_arrays(arrays_of(name))


@lru_cache(maxsize=4)
def conv_net(name: str) -> ConvNet:
    """A convolutional network of the ear: onset or drum_onset."""
    return convolutional.from_arrays(arrays_of(name))


@lru_cache(maxsize=2)
def pitch_networks(beneath: bool = False) -> PitchNetworks:
    """The networks that hear which notes one voice may sing (made by training/train_melody.py, train_ear.py).

    beneath  whether others play beneath it
    """
    together = chord_network() if beneath else None
    return PitchNetworks(dense_net("melody_pitch"), dense_net("multipitch"), together, note_judge())


@lru_cache(maxsize=1)
def note_judge() -> NoteJudge:
    """The trees that judge the notes of one voice (made by training/train_melody_notes.py)."""
    arrays = arrays_of("melody_notes")
    return NoteJudge(*(trees_of(arrays, name) for name in ("played", "later", "ends_later")))


def trees_of(arrays: dict[str, np.ndarray], name: str) -> DecisionTrees:
    """The trees of some name among arrays."""
    own = f"{name}_"
    return DecisionTrees.from_arrays({n.removeprefix(own): a for n, a in arrays.items() if n.startswith(own)})


@lru_cache(maxsize=1)
def chord_network() -> HarmonicNet:
    """The network that hears chords (made by training/train_chords.py)."""
    return harmonic.from_arrays(arrays_of("chords"))


@lru_cache(maxsize=1)
def attention_nets() -> AttentionEnsemble:
    """The networks that compare the strokes of a drum recording with each other."""
    return attention.from_arrays(arrays_of("drum_attention"))


@lru_cache(maxsize=1)
def feature_space() -> FeatureSpace:
    """The feature space of taught sounds."""
    return FeatureSpace(arrays_of("strokes")["turn"])


@lru_cache(maxsize=1)
def live_feature_space() -> FeatureSpace:
    """The feature space of taught sounds by their first moments, for live use."""
    return FeatureSpace(arrays_of("live_strokes")["turn"])


@lru_cache(maxsize=1)
def chord_confidence() -> ConfidenceCurve:
    """What turns the confidence of notes of chords into chances (made by training/calibrate.py)."""
    arrays = arrays_of("calibration")
    return ConfidenceCurve(arrays["chords_raw"], arrays["chords_chance"])
