"""The learned ear: how likely a beat and a downbeat are at each moment, from some 20 seconds around it.

A small temporal convolutional network (after Davies and Böck 2019) with weights learned on made-up performances;
``training/`` makes the performances and the weights. Here it is plain matrix products.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.beats.features import STEP, Frames, features, in_steps

WEIGHTS = Path(__file__).with_name("learned.npz")


@cache
def _weights() -> dict[str, NDArray[np.float32]]:
    with np.load(WEIGHTS) as file:
        return {k: file[k] for k in file.files}


def _convolve(x: Frames, weight: NDArray[np.float32], bias: NDArray[np.float32], dilation: int = 1) -> Frames:
    """``x`` (steps, channels in) with ``weight`` (out, in, taps), centred, silence outside. As one product over all
    taps: five times as fast as one for each."""
    steps, channels = x.shape
    taps = weight.shape[2]
    seen = np.zeros((steps, taps * channels), dtype=np.float32)
    for k in range(taps):
        by = (k - taps // 2) * dilation
        first, last = max(0, -by), min(steps, steps - by)
        if last > first:
            seen[first:last, k * channels : (k + 1) * channels] = x[first + by : last + by]
    return np.asarray(seen @ weight.transpose(2, 1, 0).reshape(-1, len(weight)) + bias)


def hear(curve: NDArray[Any], flux: NDArray[Any], energy: NDArray[Any], chroma: NDArray[Any]) -> NDArray[np.float64]:
    """Probabilities ``(frames, 2)`` of a beat and of a downbeat, 100 frames a second, from the fused attack curve and
    everybody's evidence together."""
    w = _weights()
    x = np.maximum(_convolve(in_steps(features(curve, flux, energy, chroma)), w["first"], w["first_bias"]), 0)
    skip = np.zeros_like(x)
    for k in range(len(w["wide"])):
        y = np.maximum(_convolve(x, w["wide"][k], w["wide_bias"][k], 2**k), 0)
        y = _convolve(y, w["mix"][k], w["mix_bias"][k])
        x, skip = x + y, skip + y
    said = 1 / (1 + np.exp(-_convolve(np.maximum(skip, 0), w["last"], w["last_bias"]).astype(np.float64)))
    at = np.arange(len(curve)) / STEP
    return np.column_stack([np.interp(at, np.arange(len(said)), said[:, k]) for k in range(2)])
