"""How long sound takes from the player through the converters and back: measured with a known burst."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

#: Seconds of the burst.
LENGTH = 0.25
#: The lowest and highest frequency of the sweep, Hz: what small loudspeakers and microphones pass on.
SWEEP = (200.0, 9000.0)
#: How far the correlation's peak has to stand above all others; noise alone stays below 2.
CLEAR = 3.0
#: Seconds around the peak in which echoes of the room may be nearly as strong.
_ROOM = 0.03


@dataclass(frozen=True)
class Loopback:
    """``samples``: from the burst's first sample played to the same one recorded; ``clarity``: peak to next peak."""

    samples: int
    clarity: float


def burst(rate: int) -> NDArray[np.float32]:
    """A logarithmic sweep with soft ends, ``(LENGTH * rate,)``, at half of full scale (after Farina 2000)."""
    from scipy.signal import chirp, windows  # takes most of a second to import: only who needs it pays

    t = np.arange(round(LENGTH * rate)) / rate
    low, high = SWEEP[0], min(SWEEP[1], 0.4 * rate)
    sweep = chirp(t, low, LENGTH, high, method="logarithmic", phi=-90)
    return np.asarray(0.5 * sweep * windows.tukey(len(t), 0.1), dtype=np.float32)


def latency(recorded: NDArray[np.float32], rate: int) -> Loopback | None:
    """Where the burst stands in mono samples whose first was recorded as the burst's first was played.

    None where it is not clearly there: nothing came back, or other sound covered it.
    """
    from scipy.signal import fftconvolve

    sent = burst(rate)
    if len(recorded) < len(sent) or not np.any(recorded):
        return None
    match = np.abs(fftconvolve(recorded.astype(np.float64), sent[::-1].astype(np.float64), mode="valid"))
    at = int(np.argmax(match))
    around = np.ones(len(match), dtype=bool)
    around[max(0, at - round(_ROOM * rate)) : at + round(_ROOM * rate)] = False
    if not around.any():
        return None
    clarity = float(match[at] / max(float(match[around].max()), 1e-12))
    return Loopback(at, clarity) if clarity >= CLEAR else None
