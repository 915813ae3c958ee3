"""Bars of five or seven quick pulses: whether a take has them, and how they are grouped."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from core.listening.rates import FRAME_RATE
from core.tempomap import Meter
from core.tracking.context import AnalysisContext
from core.tracking.decoder import decode
from core.tracking.downbeats import likeness, repetition
from core.tracking.parameters import USUAL_RANGE
from core.tracking.semi_markov import Ints
from core.tracking.tempo_candidates import tempo_candidates

#: Pulses are this much quicker than the quickest beats, at least and at most so many a minute (common practice).
QUICKER, QUICK, QUICKEST = 1.1, 198.0, 340.0
#: Felt beats a minute of such meters where the engineer says nothing (common practice).
FELT = (70.0, 180.0)
#: The usual ways to group them (common practice), likeliest first.
GROUPINGS: dict[int, Sequence[tuple[int, ...]]] = {5: ((3, 2), (2, 3)), 7: ((2, 2, 3), (3, 2, 2), (2, 3, 2))}
#: Least self-similarity at a bar's length, and the most at any other length, as a share of it.
_LEAST_SIMILARITY, _OTHERS_AT_MOST = 0.15, 0.65
#: How far pulses may lie from the tempo at which they are looked for, as a factor; fewest of them to judge by.
_AROUND, _FEWEST_PULSES = 1.3, 40
#: Distances in pulses at which a take that is uneven does not repeat: up to this one.
_LONGEST = 13


def bar_of_pulses(context: AnalysisContext, fastest: float = USUAL_RANGE[1]) -> tuple[int, float] | None:
    """Five or seven, and the pulses a minute, where what is played repeats after so many quick pulses and after no
    other number but its multiples; else None. An even bar repeats at even distances above all.

    ``fastest``: the quickest beats that are expected, a minute.
    """
    quick = QUICK if fastest == USUAL_RANGE[1] else QUICKER * fastest
    for bpm in tempo_candidates(context.onset_envelope, quick, QUICKEST) if quick < QUICKEST else ():
        if not quick <= bpm <= QUICKEST:
            continue
        pulses, _ = decode(context.onset_envelope, bpm / _AROUND, bpm * _AROUND, bpm)
        pace = float(60 * FRAME_RATE / np.median(np.diff(pulses))) if len(pulses) > _FEWEST_PULSES else 0.0
        if not quick < pace < QUICKEST:
            continue
        similarity = repetition(likeness(context.summed, pulses))
        for pulses_a_bar in GROUPINGS:
            others = [similarity[k] for k in range(2, _LONGEST + 1) if k % pulses_a_bar]
            if (
                similarity[pulses_a_bar] > _LEAST_SIMILARITY
                and similarity[2 * pulses_a_bar] > _LEAST_SIMILARITY
                and max(others) < _OTHERS_AT_MOST * similarity[pulses_a_bar]
            ):
                return pulses_a_bar, pace
    return None


def grouped(context: AnalysisContext, pulses: Ints, downbeats: Ints, pulses_a_bar: int) -> Meter:
    """The meter whose felt beats have the strongest attacks. ``pulses``: frames; ``downbeats``: which of them open a
    bar."""
    wide = np.max([np.roll(context.onset_envelope, k) for k in (-2, -1, 0, 1, 2)], axis=0)
    strength = wide[np.clip(pulses, 0, len(wide) - 1)]
    whole = downbeats[downbeats + pulses_a_bar <= len(pulses)]
    usual = strength[whole[:, None] + np.arange(pulses_a_bar)].mean(axis=0)

    def strength_of(groups: tuple[int, ...]) -> float:
        return float(usual[np.cumsum((0, *groups[:-1]))].mean())

    return Meter(pulses_a_bar, 8, max(GROUPINGS[pulses_a_bar], key=strength_of))
