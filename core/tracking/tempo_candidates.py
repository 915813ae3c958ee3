"""Candidate tempos of a take, each decoded into a chain of beats: the tempo hypotheses."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from core.listening.guides import periodicity
from core.listening.rates import FRAME_RATE
from core.tracking.beat_patterns import TakeBands
from core.tracking.decoder import decode
from core.tracking.hypothesis import Curve, Ints, TempoHypothesis, compared, score_hypothesis
from core.tracking.parameters import STRICT, TEMPO_DRIFT, USUAL_PACE, USUAL_RANGE, TransitionCosts

#: The usual confusions of a tempo: half, double, 2:3 and 3:2.
_RATIOS = (1, 0.5, 2, 2 / 3, 1.5)
#: Candidates closer than this, and chains closer than that, are the same tempo (natural logarithms).
_SAME_CANDIDATE, _SAME_CHAIN = 0.06, 0.03
#: The longest lag of the autocorrelation, in frames.
_LONGEST_LAG = 300
#: How far outside the range candidates may lie, as factors: it is judged after decoding.
_BELOW, _ABOVE = 0.66, 1.25
#: Beats without which a chain is no hypothesis.
_LEAST_BEATS = 8
#: How far beyond the expected range a tempo is still looked for, as a share of it.
_BEYOND = 0.1
#: What the square of an octave away from the usual pace costs, in units of the autocorrelation.
_PACE_COST = 0.15


def tempo_candidates(envelope: Curve, low: float, high: float, most: int = 4) -> list[float]:
    """Tempos (beats a minute) at which an envelope repeats, strongest first, with half, double, 2:3 and 3:2 of each.

    ``low`` to ``high``: the expected beats a minute; ``most``: peaks of the autocorrelation that are followed up.
    """
    lags = np.arange(
        int(60 * FRAME_RATE / (high * (1 + _BEYOND))),
        min(int(60 * FRAME_RATE / (low * (1 - _BEYOND))), _LONGEST_LAG) + 1,
    )
    ac = periodicity(envelope, 2 * _LONGEST_LAG + 1)
    # a beat's interval repeats at its double as well
    strength = ac[lags] + 0.5 * ac[2 * lags]
    strength = strength - _PACE_COST * np.log2(lags / (60 * FRAME_RATE / USUAL_PACE)) ** 2
    inner = (strength[1:-1] >= strength[:-2]) & (strength[1:-1] >= strength[2:])
    peaks = lags[1:-1][inner]
    peaks = peaks[np.argsort(-strength[1:-1][inner], kind="stable")][:most]
    out: list[float] = []
    for lag in peaks:
        for ratio in _RATIOS:
            bpm = 60 * FRAME_RATE / lag * ratio
            if low * _BELOW <= bpm <= high * _ABOVE and all(abs(np.log(bpm / o)) > _SAME_CANDIDATE for o in out):
                out.append(float(bpm))
    return out or [float(np.sqrt(low * high))]


def tempo_hypotheses(
    onset_envelope: Curve,
    tempo: tuple[float, float] = USUAL_RANGE,
    costs: TransitionCosts = STRICT,
    progress: Callable[[float], None] = lambda _: None,
    pins: Ints | None = None,
    activation: Curve | None = None,
    decoding_curve: Curve | None = None,
    bands: TakeBands | None = None,
) -> list[TempoHypothesis]:
    """Tempo hypotheses, the highest score first; none where there is no beat at all.

    Parameters
    ----------
    onset_envelope : (frames,)
        How strongly something starts, 100 frames a second.
    tempo
        The expected range, felt beats a minute.
    pins : int64
        Frames that have to be beats.
    activation : (frames,)
        How likely beats are (:func:`core.tracking.hypothesis.score_hypothesis`).
    decoding_curve : (frames,)
        What chains are decoded on, where that is not the onset envelope.
    bands : TakeBands
        The take's sound, to read beat by beat.
    """
    low, high = tempo
    curve = onset_envelope if decoding_curve is None else decoding_curve
    # what lies outside the music, or between known beats, is below nothing: no rhythm of its own
    tried = tempo_candidates(np.maximum(curve, 0.0), low, high)

    def follow(bpm: float) -> TempoHypothesis | None:
        frames = decode(curve, bpm / TEMPO_DRIFT, bpm * TEMPO_DRIFT, bpm, costs, pins)[0]
        enough = len(frames) >= _LEAST_BEATS
        return score_hypothesis(onset_envelope, frames, low, high, activation, bands) if enough else None

    # two at a time: the compiled decoder leaves the interpreter free; the order of results stays the same
    out: list[TempoHypothesis] = []
    with ThreadPoolExecutor(2) as pool:
        for k, found in enumerate(pool.map(follow, tried)):
            progress((k + 1) / len(tried))
            if found and all(abs(np.log(found.bpm / o.bpm)) > _SAME_CHAIN for o in out):
                out.append(found)
    return sorted(compared(out), key=lambda h: -h.score)
