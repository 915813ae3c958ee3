"""The window of all short-time spectra."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def periodic_hann(size: int) -> NDArray[np.float32]:
    """A Hann window of ``size`` samples whose copies, shifted by a half, a third, a quarter ... of it, add up to a
    constant: the form for spectra (Harris 1978, "On the use of windows for harmonic analysis")."""
    return np.hanning(size + 1)[:-1].astype(np.float32)
