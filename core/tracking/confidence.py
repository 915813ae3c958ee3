"""Confidence: how probably each beat is right, from its posterior, its attack, the activation, patterns, and the whole
take."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from core.listening.rates import FRAME_RATE
from core.tracking.exact_tempo import OFF_GRID, ExactTempo
from core.tracking.hypothesis import TempoHypothesis
from core.tracking.parameters import CONFIDENCE_WEIGHTS

Floats = NDArray[np.float64]

#: Beats on either side whose activations count with each.
_AROUND = 8
#: Hypotheses whose tempos differ by less (natural logarithm) are the same.
SAME_TEMPO = 0.08
#: The margin is cut off below and above, in nats.
_MARGIN = (-2.0, 6.0)
#: The same of patterns, in nats.
_PATTERN_MARGIN = -15.0, 15.0
#: Mean posterior of four beats in a row where there is music; posterior under which a beat at its edge is left out.
_MUSIC, _EDGE = 0.5, 0.4
#: Beats over which posteriors are averaged there.
_WINDOW = 4
#: Bounds of a posterior, so that its log-odds stay finite.
_POSTERIORS = (0.002, 0.998)


def certain_range(posteriors: Floats) -> slice:
    """The beats between which there is music to count, from each beat's posterior: applause or noise fits many chains,
    so that beats in it have small ones."""
    mean = np.convolve(posteriors, np.ones(_WINDOW) / _WINDOW, mode="valid")
    certain = np.flatnonzero(mean > _MUSIC)
    if not len(certain) or certain[-1] - certain[0] < _WINDOW:
        return slice(0, len(posteriors))
    first, last = int(certain[0]), int(certain[-1]) + _WINDOW - 1
    while last > first and posteriors[last] < _EDGE:
        last -= 1
    while first < last and posteriors[first] < _EDGE:
        first += 1
    return slice(first, last + 1)


def confidence_features(
    posteriors: Floats,
    support: Floats,
    activation: Floats,
    seconds: Floats,
    best: TempoHypothesis,
    rivals: Sequence[TempoHypothesis],
    patterns: Floats,
) -> Floats:
    """What speaks for each beat, ``(beats, features)``, in the order of
    :data:`core.tracking.parameters.CONFIDENCE_WEIGHTS`.

    Parameters
    ----------
    posteriors, support, seconds : (beats,)
        Of the beats; ``support`` is that of their attacks, 0 to 1.
    activation : (frames,)
        How likely beats are, 100 frames a second.
    best, rivals
        The hypothesis that these beats are, and the others.
    patterns : (beats,)
        By how much the pattern around each beat exceeds its rivals' (:func:`core.tracking.pattern_margin`).
    """
    p = np.clip(posteriors, *_POSTERIORS)
    on = maximum_near(activation, seconds)
    middles = (seconds[1:] + seconds[:-1]) / 2
    off = maximum_near(activation, np.append(middles, middles[-1] if len(middles) else seconds[-1]))
    size = min(2 * _AROUND + 1, max(1, len(seconds)))
    around, between, thirds = (
        uniform_filter1d(x, size, mode="nearest") for x in (on, off, _at_thirds(activation, seconds))
    )
    level = level_features(best, rivals)
    whole = [
        1.0,
        level["margin"],
        level["agreement"],
        float(best.exact_tempo is not None),
        level["pattern"],
        best.features.get("log_odds", 0.0),
        float(np.log(60 / best.bpm)),
    ]
    constant, *of_take = (np.full(len(seconds), x) for x in whole)
    local = np.column_stack([np.log(p / (1 - p)), support, on, around, between, thirds, patterns])
    if best.exact_tempo is not None and best.exact_tempo.is_exact:
        local = _shared(local, seconds, best.exact_tempo)
    return np.column_stack([constant, local, *of_take])


def _shared(local: Floats, seconds: Floats, exact: ExactTempo) -> Floats:
    """The same evidence, their mean, for all beats on the grid of an exact tempo: they are right or wrong together,
    however much is played beside some of them. Beats off it, and where the players leave it, keep their own."""
    steps = (seconds - exact.start) / exact.interval
    on_grid = np.abs(steps - np.round(steps)) * exact.interval <= OFF_GRID
    on_grid &= (seconds > exact.first - OFF_GRID) & (seconds < exact.last + OFF_GRID)
    for first, last in exact.off_grid:
        on_grid &= (seconds < first) | (seconds >= last)
    return np.where(on_grid[:, None], local[on_grid].mean(axis=0), local) if on_grid.any() else local


def margin(best: TempoHypothesis, rivals: Sequence[TempoHypothesis]) -> float:
    """By how much the score of a hypothesis exceeds that of the next one at another tempo, in nats, -2 to 6."""
    others = [r.score for r in rivals if abs(np.log(r.bpm / best.bpm)) > SAME_TEMPO]
    return float(np.clip(best.score - max(others), *_MARGIN)) if others else _MARGIN[1]


def level_features(best: TempoHypothesis, rivals: Sequence[TempoHypothesis]) -> dict[str, float]:
    """What tells whether a take's tempo level is right: ``margin``; ``agreement`` with the beat activation, 0 to 1; by
    how much its pattern exceeds those of all other tempos (``pattern``), in nats, -15 to 15."""
    own = best.features.get("pattern", 0.0)
    others = [r.features.get("pattern", 0.0) for r in rivals if abs(np.log(r.bpm / best.bpm)) > SAME_TEMPO]
    return {
        "margin": margin(best, rivals),
        "agreement": best.features.get("agreement", 0.0),
        "pattern": float(np.clip(own - max(others), *_PATTERN_MARGIN)) if others else _PATTERN_MARGIN[1],
    }


def _at_thirds(activation: Floats, seconds: Floats) -> Floats:
    """The higher activation at one and at two thirds of each beat, within 20 ms."""
    if len(seconds) < 2:
        return np.zeros(len(seconds))
    gaps = np.diff(seconds, append=2 * seconds[-1] - seconds[-2])
    return np.maximum(*(maximum_near(activation, seconds + gaps * share, 2) for share in (1 / 3, 2 / 3)))


def maximum_near(activation: Floats, seconds: Floats, radius: int = 3) -> Floats:
    """The highest activation within ``radius`` hundredths of a second of each time."""
    frames = np.round(seconds * FRAME_RATE).astype(np.int64)[:, None] + np.arange(-radius, radius + 1)
    return np.asarray(activation[np.clip(frames, 0, len(activation) - 1)].max(axis=1))


def confidence_of(features: Floats) -> Floats:
    """0 to 1 a beat, ``(beats,)``: about that share of beats with this value is right within 70 ms."""
    return np.asarray(1 / (1 + np.exp(-(features @ np.array(list(CONFIDENCE_WEIGHTS.values()))))))
