"""What is played beat by beat, as a small network reads it: is this the pulse one counts, and which beats open a bar?

A chain of beats is laid over the take's sound, each beat cut into twelfths, so that patterns look the same at any tempo
(beat-synchronous features, as in Krebs, Böck, Dorfer and Widmer 2016, "Downbeat tracking using beat-synchronous
features and recurrent networks"). The network is convolutional over beats; its weights are learned on made-up
performances (``training/patterns.py``); here it is plain matrix products.
"""

from __future__ import annotations

from collections.abc import Sequence
from copy import copy
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from core.listening.excerpt import SLOW
from core.listening.pitches import PITCH_RATE
from core.listening.rates import FRAME_RATE
from core.tracking.beat_activation import convolve, relative, rises, with_lead
from core.tracking.parameters import USUAL_PACE

Floats = NDArray[np.float32]

WEIGHTS = Path(__file__).with_name("beat_patterns.npz")
#: Parts of a beat: halves, thirds and quarters fall on their edges.
PARTS = 12
#: Bands whose rises, and whose levels, are taken together: from bass to cymbals.
RISES, LEVELS = 7, 4
#: Low semitones, those of basses.
_LOW = 19
#: What the network sees of a beat: rises and levels in its parts, changes of harmony and bass, the pace.
INPUTS = PARTS * (RISES + LEVELS) + 6 + 1


class TakeBands:
    """A take's sound, all tracks together, ready to be cut by any chain of beats."""

    def __init__(self, tracks: Sequence[tuple[NDArray[Any], NDArray[Any]]]) -> None:
        """``tracks``: bands ``(frames, 28)`` at 100 frames a second and pitches ``(slow frames, 54)`` at 25 of each, as
        in :class:`core.listening.spectrum.Evidence`."""
        bands, pitches = (_together([t[k] for t in tracks]) for k in (0, 1))
        self.rises = _grouped(rises(with_lead(bands, FRAME_RATE))[-len(bands) :], RISES)
        self.levels = _grouped(relative(bands), LEVELS)
        self.pitches = np.cumsum(np.concatenate([np.zeros((1, pitches.shape[1]), np.float32), pitches]), axis=0)

    def in_silence(self, start: int, count: int) -> TakeBands:
        """The same ``start`` frames later in a take of ``count`` frames, with nothing around it. ``start``: a whole
        number of slow frames."""
        out = copy(self)
        around = (start, max(0, count - start - len(self.rises)))
        out.rises, out.levels = (np.pad(x, (around, (0, 0))) for x in (self.rises, self.levels))
        after = max(0, -(-count // SLOW) + 1 - start // SLOW - len(self.pitches))
        out.pitches = np.pad(self.pitches, ((start // SLOW, after), (0, 0)), mode="edge")
        return out

    def along(self, frames: ArrayLike) -> Floats:
        """What the network sees of a chain of beats, ``(beats, INPUTS)``. ``frames``: rising, 100 a second, two at
        least."""
        at = np.asarray(frames, dtype=np.float64)
        gaps = np.maximum(np.diff(at, append=2 * at[-1] - at[-2]), 1.0)
        bounds = np.append(at[:, None] + gaps[:, None] * (np.arange(PARTS) - 0.5) / PARTS, at[-1] + gaps[-1])
        edges = np.clip(np.round(bounds), 0, len(self.rises) - 1).astype(np.int64)
        there = slice(0, int(edges[-1]) + 1)  # else the last, unwanted one would reach to the take's end
        rises = np.maximum.reduceat(self.rises[there], edges, axis=0)[:-1].reshape(len(at), -1)
        counts = np.maximum(1, np.diff(edges))[:, None]
        levels = (np.add.reduceat(self.levels[there], edges, axis=0)[:-1] / counts).reshape(len(at), -1)
        pace = np.log2(60 * FRAME_RATE / gaps / USUAL_PACE)[:, None]
        return np.concatenate([rises, levels, self._changes(at, gaps), pace], axis=1).astype(np.float32)

    def _changes(self, at: NDArray[np.float64], gaps: NDArray[np.float64]) -> Floats:
        """How much harmony and bass change at each beat: from the beat before, from two before, and half-way."""
        out = []
        for before, after, place in ((1.0, 1.0, 0.0), (2.0, 2.0, 0.0), (0.5, 0.5, 0.5)):
            here = at + place * gaps
            a, b = self._mean(here - before * gaps, here), self._mean(here, here + after * gaps)
            for part in (slice(None), slice(0, _LOW)):
                x, y = a[:, part], b[:, part]
                norm = np.linalg.norm(x, axis=1) * np.linalg.norm(y, axis=1)
                out.append(np.where(norm > 1e-6, 1 - (x * y).sum(axis=1) / np.maximum(norm, 1e-6), 0.0))
        return np.stack(out, axis=1).astype(np.float32)

    def _mean(self, start: NDArray[np.float64], end: NDArray[np.float64]) -> Floats:
        a, b = (
            np.clip(np.round(t * PITCH_RATE / FRAME_RATE).astype(np.int64), 0, len(self.pitches) - 1)
            for t in (start, end)
        )
        return np.asarray((self.pitches[b] - self.pitches[a]) / np.maximum(1, b - a)[:, None])


def _grouped(values: Floats, count: int) -> Floats:
    """The mean of neighbouring bands, ``(frames, count)``."""
    return np.stack([group.mean(axis=1) for group in np.array_split(values, count, axis=1)], axis=1)


def _together(levels: Sequence[NDArray[Any]]) -> Floats:
    """Log energies of several tracks as those of their sum."""
    if len(levels) == 1:
        return np.asarray(levels[0], dtype=np.float32)
    total = np.zeros((max(len(x) for x in levels), levels[0].shape[1]), dtype=np.float32)
    for x in levels:
        total[: len(x)] += np.expm1(x.astype(np.float32))
    return np.log1p(total)


@cache
def _weights() -> dict[str, Floats]:
    with np.load(WEIGHTS) as file:
        return {k: file[k].astype(np.float32) for k in file.files}


def read_pattern(inputs: Floats) -> tuple[float, NDArray[np.float64]]:
    """How much a chain looks like the pulse one counts (nats, to be compared with other chains of the same take), and
    each beat's log-odds to open a bar. ``inputs``: from :meth:`TakeBands.along`."""
    levels, opens = _read(inputs)
    return float(levels.mean()), opens


def pattern_levels(inputs: Floats) -> NDArray[np.float64]:
    """How much the chain looks like that pulse at each of its beats, ``(beats,)``, in nats."""
    return _read(inputs)[0]


def _read(inputs: Floats) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    w = _weights()
    x = np.maximum((inputs - w["middle"]) / w["spread"] @ w["dense"] + w["dense_bias"], 0)
    for k, (weight, bias) in enumerate(zip(w["conv"], w["conv_bias"], strict=True)):
        x = x + np.maximum(convolve(x, weight, bias, 2**k), 0)
    levels, opens = (x @ w["last"] + w["last_bias"]).T.astype(np.float64)
    return levels, opens
