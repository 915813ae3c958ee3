"""How likely each chord is at each beat, from the tones of four registers: a linear model in every key alike.

The bass tells the root: its tones count on a scale of their own, and those of the bar's first beat once more, as a
walking bass leaves the root after it. One set of weights is for beats at which a chord may begin, one for the others.
Learned by ``training/chords.py`` from accompaniments in some two hundred styles whose chords are known.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike, NDArray

from core.listening.tonal import Tones, in_key

Floats = NDArray[np.float64]
#: The qualities that are looked for, in the order of the weights.
QUALITIES = ("", "m", "7", "m7", "maj7", "sus4", "dim")
#: MIDI pitches at which registers meet: bass, tenor, middle, high.
_CUTS = (45, 55, 67)
#: How far soft tones are lifted before tones are compared, and what keeps the scale of a silent beat finite.
_BOOST, _LEAST = 4.0, 0.15
#: A tone in the middle of a beat counts so much more than one at its ends, where the window hears the neighbours too.
_AT_ENDS = 0.05
WEIGHTS = Path(__file__).with_name("chord_weights.npz")


def registers(found: Tones, edges: ArrayLike, cents: float = 0.0) -> Floats:
    """``(len(edges) - 1, 4, 12)``: strength of the pitch classes in each register between consecutive times."""
    edges = np.asarray(edges, dtype=np.float64)
    nearest, worth = in_key(found, cents)
    place = np.searchsorted(edges, found.seconds, side="right") - 1
    inside = (place >= 0) & (place < len(edges) - 1)
    place, nearest = place[inside], nearest[inside]
    phase = np.clip((found.seconds[inside] - edges[place]) / np.diff(edges)[place], 0, 1)
    worth = worth[inside] * (np.sin(np.pi * phase) + _AT_ENDS)
    out = np.zeros((len(edges) - 1, len(_CUTS) + 1, 12))
    np.add.at(out, (place, np.searchsorted(_CUTS, nearest, side="right"), nearest % 12), worth)
    return out


def features(strength: Floats, downbeat: NDArray[np.bool_]) -> Floats:
    """``(beats, 6, 12)`` of :func:`registers`: the four registers, the bass on a scale of its own, and the bass of the
    bar's first beat."""
    level = np.log1p(_BOOST * strength / (np.median(strength.sum(axis=(1, 2))) / 12 + 1e-12))
    level -= level.mean(axis=2, keepdims=True)
    level /= level.std(axis=(1, 2), keepdims=True) + _LEAST
    bass = np.log1p(_BOOST * strength[:, 0] / (np.median(strength[:, 0].sum(axis=1)) / 3 + 1e-9))
    bass -= bass.mean(axis=1, keepdims=True)
    bass /= bass.std(axis=1, keepdims=True) + 0.1
    count = np.arange(len(strength))
    first = np.maximum.accumulate(np.where(downbeat, count, 0))
    return np.concatenate([level, bass[:, None], bass[first][:, None]], axis=1)


def on_every_root(values: Floats) -> Floats:
    """``(beats, 12, 72)``: the features as each root sees them, itself first."""
    turned = [np.roll(values, -root, axis=2).reshape(len(values), -1) for root in range(12)]
    return np.stack(turned, axis=1)


@cache
def _weights() -> dict[str, Floats]:
    with np.load(WEIGHTS) as found:
        return {name: found[name].astype(np.float64) for name in found.files}


def prior() -> Floats:
    """``(7,)``: the share of each quality among the chords that the weights were learned from."""
    return _weights()["prior"]


def log_likelihoods(values: Floats) -> tuple[Floats, Floats]:
    """Of each chord (root times 7, plus quality) at each beat, ``(beats, 84)``: where one may begin, and elsewhere."""
    w, seen = _weights(), on_every_root(values)
    return _normalised(seen @ w["begin"].T + w["begin_bias"]), _normalised(seen @ w["go_on"].T + w["go_on_bias"])


def _normalised(scores: Floats) -> Floats:
    flat = scores.reshape(len(scores), -1)
    return np.asarray(flat - np.logaddexp.reduce(flat, axis=1, keepdims=True))
