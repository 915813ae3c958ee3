"""Beat activation: how likely a beat and a downbeat are at each moment of a take, from all its tracks.

The same small encoder reads every track. Its results are pooled over the tracks (mean and maximum), so any number of
tracks works, and a finished mix counts as one track. A temporal convolutional network (after Davies and Böck 2019)
then sees some forty seconds to either side. Its weights are learned on made-up performances (``training/``); here it
is plain matrix products.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from concurrent.futures import Executor, ThreadPoolExecutor
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.listening.pitches import PITCH_RATE
from core.listening.rates import FRAME_RATE
from core.listening.spectrum import level_before

Frames = NDArray[np.float32]

WEIGHTS = Path(__file__).with_name("beat_activation.npz")
#: The network counts in steps of two frames.
STEP = 2
STEP_RATE = FRAME_RATE / STEP
#: Seconds that the network sees before a recording begins.
LEAD = 1.0
#: Frames of bands a frame of pitches.
_PER_PITCH = round(FRAME_RATE / PITCH_RATE)
#: Levels are compared in units of so many nepers, from the track's own loud level down.
_UNIT = 1.5
#: A rise of so many nepers within 20 ms counts as one.
_RISE = 0.5


def track_inputs(bands: NDArray[Any], pitches: NDArray[Any]) -> Frames:
    """What the encoder sees of a track, ``(steps, inputs)``: the levels of all bands at both frames of the step, how
    fast they rise, and the levels of all semitones.

    ``bands``: ``(frames, bands)`` log energies at 100 frames a second; ``pitches``: ``(frames, semitones)`` at 25.
    """
    steps = len(bands) // STEP
    bands, pitches = bands.astype(np.float32), pitches.astype(np.float32)
    sharp = np.concatenate([relative(bands), rises(bands)], axis=1)[: steps * STEP].reshape(steps, -1)
    slow = relative(pitches)[np.minimum(np.arange(steps) * STEP // _PER_PITCH, len(pitches) - 1)]
    return np.concatenate([sharp, slow], axis=1)


def with_lead(levels: NDArray[Any], frame_rate: float) -> Frames:
    """``levels`` ``(frames, bands)``, ``frame_rate`` a second, and in front what was before the recording, which may be
    cut on its first note: :data:`LEAD` seconds of it."""
    before = np.tile(level_before(levels, frame_rate), (round(LEAD * frame_rate), 1))
    return np.concatenate([before, levels.astype(np.float32)])


def rises(bands: Frames) -> Frames:
    """How fast each band rises, 0 to 4, ``(frames, bands)``; what a neighbouring band had before is no rise."""
    before = bands[:-2]
    wide = before.copy()
    wide[:, 1:] = np.maximum(wide[:, 1:], before[:, :-1])
    wide[:, :-1] = np.maximum(wide[:, :-1], before[:, 1:])
    out = np.zeros_like(bands)
    out[2:] = np.minimum(np.maximum(bands[2:] - wide, 0) / _RISE, 4)
    return out


def relative(levels: NDArray[Any]) -> Frames:
    """Levels against the track's own loud level, about -3 to 2."""
    loud = np.percentile(levels.max(axis=1), 95)
    return np.asarray(np.clip((levels - loud) / _UNIT + 1, -3, 3).astype(np.float32))


@cache
def _weights() -> dict[str, NDArray[np.float32]]:
    with np.load(WEIGHTS) as file:
        return {k: file[k].astype(np.float32) for k in file.files}


#: Steps computed at a time: what is multiplied stays near the processor.
_PIECE = 1 << 10


def convolve(
    x: Frames, weight: NDArray[np.float32], bias: NDArray[np.float32], dilation: int = 1, pool: Executor | None = None
) -> Frames:
    """``x`` (steps, channels in) with ``weight`` (out, in, taps), centred, zeros outside, as one product over all
    taps. ``pool``: computes the pieces side by side."""
    steps, channels = x.shape
    taps = weight.shape[2]
    flat = weight.transpose(2, 1, 0).reshape(-1, len(weight))
    out = np.empty((steps, len(weight)), dtype=np.float32)

    def piece(start: int) -> None:
        count = min(_PIECE, steps - start)
        seen = np.zeros((count, taps * channels), dtype=np.float32)
        for k in range(taps):
            by = start + (k - taps // 2) * dilation
            first, last = max(0, -by), min(count, steps - by)
            if last > first:
                seen[first:last, k * channels : (k + 1) * channels] = x[first + by : last + by]
        np.matmul(seen, flat, out=out[start : start + count])
        out[start : start + count] += bias

    deque((pool.map if pool else map)(piece, range(0, steps, _PIECE)), maxlen=0)
    return out


def encode(bands: NDArray[Any], pitches: NDArray[Any]) -> Frames:
    """What the encoder makes of one track and of :data:`LEAD` seconds before it, ``(steps, channels)``."""
    w = _weights()
    inputs = track_inputs(with_lead(bands, FRAME_RATE), with_lead(pitches, PITCH_RATE))
    x = np.maximum(convolve(inputs, w["encoder"], w["encoder_bias"]), 0)
    return np.maximum(convolve(x, w["code"], w["code_bias"]), 0)


def activation(tracks: Sequence[tuple[NDArray[Any], NDArray[Any]]], frames: int) -> NDArray[np.float64]:
    """Probabilities ``(frames, 2)`` of a beat and of a downbeat, 100 frames a second. ``tracks``: bands and pitches of
    each (see :func:`track_inputs`)."""
    w = _weights()
    lead = round(LEAD * STEP_RATE)
    steps = lead + max(1, frames // STEP)
    total = np.zeros((steps, w["code"].shape[0]), dtype=np.float32)
    top = np.zeros_like(total)
    # two at a time: products and sums of this size do not hold the interpreter
    with ThreadPoolExecutor(2) as pool:
        for code in pool.map(lambda track: encode(*track)[:steps], tracks):
            total[: len(code)] += code
            np.maximum(top[: len(code)], code, out=top[: len(code)])
        pooled = np.concatenate([total / max(1, len(tracks)), top], axis=1)
        x = np.maximum(convolve(pooled, w["join"], w["join_bias"]), 0)
        skip = np.zeros_like(x)
        for k in range(len(w["wide"])):
            y = np.maximum(convolve(x, w["wide"][k], w["wide_bias"][k], 2**k, pool), 0)
            y = convolve(y, w["mix"][k], w["mix_bias"][k])
            x, skip = x + y, skip + y
    logits = convolve(np.maximum(skip, 0), w["last"], w["last_bias"])[lead:].astype(np.float64)
    likely = 1 / (1 + np.exp(-logits))
    at = np.arange(frames) / STEP
    return np.column_stack([np.interp(at, np.arange(len(likely)), likely[:, k]) for k in range(2)])
