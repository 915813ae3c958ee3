"""The pitch of a sustained note, for tuning before and while recording."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy.fft
from numpy.typing import NDArray

#: Hz: from the lowest string of a bass with five strings to the top of a flute.
LOWEST, HIGHEST = 30.0, 2500.0
#: The largest share of a period that may differ from the one before (YIN's threshold).
_UNLIKE = 0.15
#: Below this root mean square nothing is tuned.
_QUIET = 10 ** (-60 / 20)
_NAMES = ("C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B")


@dataclass(frozen=True)
class Tuned:
    """The nearest note, its octave (A4 is the reference), and how many cents the sound is above it."""

    name: str
    octave: int
    cents: float
    hertz: float


def pitch(x: NDArray[np.float32], rate: int) -> float | None:
    """The fundamental frequency in Hz of mono samples ``x`` of some 0.1 s or more; None where there is none.

    YIN (de Cheveigné and Kawahara 2002): the difference of the sound to itself, delayed, over its running mean; the
    first delay below the threshold, refined by a parabola.
    """
    longest = min(int(rate / LOWEST) + 2, len(x) // 2)
    shortest = max(2, int(rate / HIGHEST))
    if longest <= shortest + 2 or math.sqrt(float(np.mean(np.square(x, dtype=np.float64)))) < _QUIET:
        return None
    unlike = _unlikeness(x.astype(np.float64), longest)
    below = np.flatnonzero(unlike[shortest:] < _UNLIKE)
    if not len(below):
        return None
    at = shortest + int(below[0])
    while at + 1 < longest and unlike[at + 1] < unlike[at]:
        at += 1
    return rate / (at + _vertex(unlike, at))


def nearest_note(hertz: float, reference: float = 440.0) -> Tuned:
    """The note of equal temperament that is nearest, where A4 has ``reference`` Hz."""
    steps = 12 * math.log2(hertz / reference)
    nearest = round(steps)
    octave, degree = divmod(nearest + 9, 12)
    return Tuned(_NAMES[degree], 4 + octave, 100 * (steps - nearest), hertz)


def _unlikeness(x: NDArray[np.float64], longest: int) -> NDArray[np.float64]:
    """YIN's cumulative mean normalised difference at delays 0 to ``longest``."""
    window = len(x) - longest
    size = scipy.fft.next_fast_len(len(x) + window)
    product = scipy.fft.irfft(scipy.fft.rfft(x, size) * np.conj(scipy.fft.rfft(x[:window], size)), size)[: longest + 1]
    energy = np.concatenate(([0.0], np.cumsum(np.square(x))))
    energies = energy[window : window + longest + 1] - energy[: longest + 1]
    difference = np.maximum(0.0, energies[0] + energies - 2 * product)
    running = np.cumsum(difference)
    out = np.ones(longest + 1)
    out[1:] = difference[1:] * np.arange(1, longest + 1) / np.maximum(running[1:], 1e-12)
    return out


def _vertex(y: NDArray[np.float64], at: int) -> float:
    """Where the parabola through a minimum and its neighbours has its own, in samples from ``at``."""
    if not 0 < at < len(y) - 1:
        return 0.0
    before, here, after = y[at - 1 : at + 2]
    bend = before - 2 * here + after
    return 0.0 if bend <= 0 else float(0.5 * (before - after) / bend)
