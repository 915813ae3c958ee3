"""The tempo as it is felt over bars and phrases, beside that of single beats."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy.ndimage as ndi
from numpy.typing import NDArray

from core.tempomap.tempomap import TempoMap

Floats = NDArray[np.float64]

#: Beats (standard deviation) over which the smooth tempo is taken: about a bar to either side.
SMOOTH_BEATS = 3.0
#: Bars of a phrase where nobody named sections.
PHRASE_BARS = 8
#: Share of a phrase's changes of tempo that an arch has to explain, and beats that it needs.
_ARCH_SHARE, _ARCH_BEATS = 0.3, 8


@dataclass(frozen=True)
class StretchTempo:
    """Of a stretch of the take: average, lowest and highest smooth tempo in felt beats a minute; ``arch``: the bow of
    the tempo over the phrase as ``a + b x + c x²``, x from -1 to 1, where one fits (after Todd 1985)."""

    start: float
    end: float
    average: float
    lowest: float
    highest: float
    arch: tuple[float, float, float] | None


def smooth_tempo(tempo_map: TempoMap, beats: float = SMOOTH_BEATS) -> tuple[Floats, Floats]:
    """Middles of all beats in seconds, and the tempo there in felt beats a minute, smoothed over ``beats``.

    Intervals are averaged, not tempos, so that a stretch lasts as long as it did.
    """
    seconds = tempo_map.beats().seconds
    intervals = np.diff(seconds)
    if not len(intervals):
        return np.zeros(0), np.zeros(0)
    return (seconds[1:] + seconds[:-1]) / 2, 60 / ndi.gaussian_filter1d(intervals, beats, mode="nearest")


def stretch_tempo(tempo_map: TempoMap, start: float, end: float) -> StretchTempo | None:
    """The tempo of what lies between two times; None where fewer than two beats begin there."""
    seconds = tempo_map.beats().seconds
    inside = seconds[(seconds >= start - 1e-6) & (seconds <= end + 1e-6)]
    if len(inside) < 2:
        return None
    at, smooth = smooth_tempo(tempo_map)
    own = (at >= inside[0]) & (at <= inside[-1])
    average = 60 * (len(inside) - 1) / (inside[-1] - inside[0])
    return StretchTempo(
        float(inside[0]),
        float(inside[-1]),
        float(average),
        float(smooth[own].min()),
        float(smooth[own].max()),
        _arch(60 / np.diff(inside)),
    )


def phrases(tempo_map: TempoMap, bars: int = PHRASE_BARS) -> list[tuple[float, float]]:
    """Starts and ends of phrases of so many bars from bar 1 on, in seconds."""
    last = tempo_map.bar_range[1] + 1
    lines = np.arange(1, last + 1, bars)
    if len(lines) < 2:
        return []
    times = tempo_map.bar_seconds(lines)
    return list(zip(times[:-1].tolist(), times[1:].tolist(), strict=True))


def _arch(bpm: Floats) -> tuple[float, float, float] | None:
    """A parabola over the beats' tempos, if it is a bow upward that explains enough of them."""
    if len(bpm) < _ARCH_BEATS:
        return None
    x = np.linspace(-1, 1, len(bpm))
    c, b, a = np.polyfit(x, bpm, 2)
    left = bpm - np.polyval((c, b, a), x)
    spread = np.sum((bpm - bpm.mean()) ** 2)
    if c >= 0 or spread <= 0 or 1 - np.sum(left**2) / spread < _ARCH_SHARE:
        return None
    return float(a), float(b), float(c)
