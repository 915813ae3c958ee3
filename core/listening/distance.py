"""Distant microphones: the delay of their sound behind that of the near ones.

Generalised cross-correlation with phase transform (Knapp and Carter, "The generalized correlation method for
estimation of time delay", IEEE Trans. ASSP 24, 1976): a far microphone's phases are those of the near ones, all turned
by one delay; two players' phases have nothing in common, however well they keep together.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import scipy.fft
from numpy.typing import NDArray

from core.audio import Samples

Floats = NDArray[np.float64]

#: The range of the voice and most instruments' bodies, in Hz, in which the delay is looked for.
_LOW, _HIGH = 200.0, 6000.0
#: The shortest delay that counts (some 30 cm) and the longest (some 20 m), in seconds.
_NEAREST, _FARTHEST = 0.001, 0.06
#: How much of all phases must agree; what leaks from player to player reaches about half of this.
_AGREEING = 0.12


def delays(signals: Sequence[Samples], rate: int) -> Floats:
    """Delay of each mono signal behind the others, in seconds; 0 for near ones. All signals are of equal length."""
    if len(signals) < 2:
        return np.zeros(len(signals))
    size = scipy.fft.next_fast_len(2 * len(signals[0]), real=True)
    hz = scipy.fft.rfftfreq(size, 1 / rate)
    band = (hz >= _LOW) & (hz <= min(_HIGH, 0.45 * rate))
    spectra = []
    for x in signals:
        top = float(np.abs(x).max(initial=0.0))
        spectra.append(scipy.fft.rfft(x / top if top else x, size)[band])
    together = np.sum(spectra, axis=0)
    out = np.zeros(len(signals))
    reach = round(_FARTHEST * rate)
    for i, own in enumerate(spectra):
        cross = own * np.conj(together - own)
        whitened = np.zeros(len(hz), dtype=np.complex128)
        whitened[band] = cross / np.maximum(np.abs(cross), 1e-12)
        likeness = scipy.fft.irfft(whitened, size)[: reach + 1] * size / (2 * band.sum())
        best = int(np.argmax(likeness))
        if likeness[best] >= _AGREEING and best >= _NEAREST * rate:
            out[i] = best / rate
    return out
