"""What the learned ear looks at: a few curves a frame, whatever the number of players or the level of the take."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from core.listening.spectrum import FRAME_RATE

Frames = NDArray[np.float32]

#: The learned ear counts in steps of two frames.
STEP = 2
RATE = FRAME_RATE / STEP
#: How many seconds either way the sound is compared with, for its change of harmony.
REACHES = (0.06, 0.15, 0.4, 1.0)
#: Columns that are sharp in time, and those that move slowly.
SHARP, SLOW = 6, 4 + len(REACHES)
#: Features a step: sharp ones frame by frame.
COUNT = STEP * SHARP + SLOW


def features(curve: NDArray[Any], flux: NDArray[Any], energy: NDArray[Any], chroma: NDArray[Any]) -> Frames:
    """``(frames, SHARP + SLOW)`` from the fused attack ``curve`` and everybody's evidence, frames at 100 a second:
    attacks in all, in three ranges and as fused, change of pitch classes; loudness in three ranges, its rise in the
    lowest, changes of harmony."""
    attacks = np.column_stack([curve, flux.sum(axis=1), flux])
    attacks = np.sqrt(np.minimum(attacks / _top(attacks), 2.0))
    usual = uniform_filter1d(energy, round(3 * FRAME_RATE), axis=0, mode="nearest")
    loud = (energy - usual) / (energy.std(axis=0) + 1e-6)
    rise = np.maximum(loud[:, :1] - np.roll(loud[:, :1], 6, axis=0), 0)
    harmony = np.column_stack([_rising(chroma), *(_turn(chroma, round(r * FRAME_RATE)) for r in REACHES)])
    harmony = np.minimum(harmony / _top(harmony), 2.0)
    slow = np.clip(np.column_stack([loud, rise, harmony[:, 1:]]), -3, 3)
    return np.column_stack([attacks, harmony[:, :1], slow]).astype(np.float32)


def in_steps(frames: Frames) -> Frames:
    """``(steps, COUNT)`` from :func:`features`: what is sharp frame by frame, what is slow as its mean."""
    pairs = frames[: len(frames) // STEP * STEP].reshape(-1, STEP, SHARP + SLOW)
    return np.concatenate([pairs[:, :, :SHARP].reshape(-1, STEP * SHARP), pairs[:, :, SHARP:].mean(axis=1)], axis=1)


def _top(x: NDArray[Any]) -> NDArray[Any]:
    return np.asarray(np.maximum(np.percentile(x, 98, axis=0), 1e-6))


def _rising(chroma: NDArray[Any]) -> NDArray[Any]:
    """How much pitch classes gain over 40 ms, all together."""
    log = np.log1p(1000 * chroma)
    rise = np.maximum(log - np.roll(log, 4, axis=0), 0).sum(axis=1)
    rise[:4] = 0
    return np.asarray(rise)


def _turn(chroma: NDArray[Any], reach: int) -> NDArray[Any]:
    """One minus the cosine between the pitch classes before and after each frame; nothing in silence."""
    sums = np.concatenate([np.zeros((1, 12)), np.cumsum(np.sqrt(chroma), axis=0, dtype=np.float64)])
    k = np.arange(len(chroma))
    before = sums[k] - sums[np.maximum(k - reach, 0)]
    after = sums[np.minimum(k + reach, len(chroma))] - sums[k]
    size = np.linalg.norm(before, axis=1) * np.linalg.norm(after, axis=1)
    turn = 1 - (before * after).sum(axis=1) / np.maximum(size, 1e-12)
    return np.asarray(np.where(size > 0.06 * np.median(size), turn, 0.0))
