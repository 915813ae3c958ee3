"""Loudness of a programme in LUFS: ITU-R BS.1770-4, with its two gates."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

#: Seconds of a block and share by which blocks overlap; the gates, in LUFS and LU.
_BLOCK, _OVERLAP, _ABSOLUTE, _RELATIVE = 0.4, 0.75, -70.0, -10.0
_OFFSET = -0.691
#: The two stages of the K weighting, as analogue designs: gain in dB, Q and frequency in Hz of the shelf, Q and
#: frequency of the high pass. They give the standard's coefficients at 48 kHz (after Mansbridge et al. 2012).
_SHELF, _HIGH_PASS = (3.99984385397, 0.7071752369554193, 1681.9744509555319), (0.5003270373238773, 38.13547087613982)


def loudness(x: NDArray[np.float32] | NDArray[np.float64], rate: int) -> float:
    """Integrated loudness in LUFS of samples ``(frames, 1 or 2)``; minus infinity where all lies below the gate."""
    from scipy.signal import lfilter  # takes most of a second to import: only who needs it pays

    weighted = np.asarray(x, dtype=np.float64)
    for b, a in (_shelf(rate), _high_pass(rate)):
        weighted = lfilter(b, a, weighted, axis=0)
    size, hop = round(_BLOCK * rate), round(_BLOCK * (1 - _OVERLAP) * rate)
    if len(weighted) < size:
        return -np.inf
    total = np.concatenate((np.zeros(1), np.cumsum(np.sum(weighted**2, axis=1))))
    starts = np.arange(0, len(weighted) - size + 1, hop)
    power = (total[starts + size] - total[starts]) / size
    power = power[_lufs(power) > _ABSOLUTE]
    if not len(power):
        return -np.inf
    return float(_lufs(np.mean(power[_lufs(power) > _lufs(np.mean(power)) + _RELATIVE])))


def _lufs(power: NDArray[np.float64] | np.floating) -> NDArray[np.float64]:
    return np.asarray(_OFFSET + 10 * np.log10(np.maximum(power, 1e-20)))


def _shelf(rate: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    gain, q, f = _SHELF
    k, high = np.tan(np.pi * f / rate), 10 ** (gain / 20)
    middle = high**0.4996667741545416
    a0 = 1 + k / q + k * k
    b = np.array([high + middle * k / q + k * k, 2 * (k * k - high), high - middle * k / q + k * k]) / a0
    return b, np.array([1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0])


def _high_pass(rate: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    q, f = _HIGH_PASS
    k = np.tan(np.pi * f / rate)
    a0 = 1 + k / q + k * k
    return np.array([1.0, -2.0, 1.0]), np.array([1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0])
