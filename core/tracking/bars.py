"""Bars: the best division of the beats into bars, given how much each beat sounds like a downbeat.

One meter is the main one. Single bars may be longer or shorter, and stretches of bars in another meter.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, replace
from itertools import groupby

import numpy as np
from numpy.typing import NDArray

from core.tracking.downbeats import repetition, repetition_around
from core.tracking.parameters import DIVISION_WEIGHTS, METER_WEIGHTS, NEW_METER, ODD_BAR, RARE_METER, REPEATS_IN_METER
from core.tracking.semi_markov import IMPOSSIBLE, best_manners

Curve = NDArray[np.float64]
Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]

#: Felt beats a bar that are tried, where beats divide in two and in three.
BINARY, TERNARY = (2, 3, 4, 5, 6, 7), (2, 3, 4)
#: The same for stretches in another meter. Bars of two and of six share their lines with those of four and of three.
_IN_STRETCHES = (3, 4, 5, 7)
#: An odd bar has so many beats more or fewer at most.
_MOST_ODD = 3
#: Bar lengths that are compared with what repeats, in beats; and around how many beats that is looked for.
_LONGEST, _AROUND = 8, 24
#: So many bars of one length in a row are a stretch in a meter of its own, fewer are odd bars.
_STRETCH = 4
#: Chosen on the fitting set (docs/measured.md): the share of an odd bar's price where a beat in it is unsure.
_WHERE_UNSURE = 0.5


def meter_name(beats: int, ternary: bool) -> str:
    """The name by which :data:`core.tracking.parameters.METER_WEIGHTS` has a bar of so many felt beats."""
    return f"{beats} in three" if ternary else str(beats)


@dataclass(frozen=True)
class BarDivision:
    """A division of beats into bars.

    Attributes
    ----------
    downbeats : int64
        Indices of the beats that open a bar.
    beats : int
        The main number of felt beats a bar.
    score : float
        In nats; compares divisions of the same beats.
    scores : dict
        The best score of each main number.
    features : dict
        What the score is made of, by the names of :data:`core.tracking.parameters.DIVISION_WEIGHTS`.
    """

    downbeats: Ints
    beats: int
    score: float
    scores: dict[int, float]
    features: dict[str, float] = field(default_factory=dict)


def divide(
    evidence: Curve,
    alike: Curve,
    beats: int | None = None,
    ternary: bool = False,
    unsure: Flags | None = None,
    others: Collection[int] | None = None,
) -> BarDivision:
    """The best division into bars of mainly ``beats`` (or of the best of 2 to 7), odd bars and stretches in another
    meter at a price.

    ``alike``: from :func:`core.tracking.downbeats.likeness`; ``others``: the numbers of beats that stretches may have,
    by default none where ``beats`` are given, and any where not; the rest as of :func:`divisions`.
    """
    found = divisions(evidence, repetition(alike), [beats] if beats else None, ternary, unsure)
    best = max(found, key=lambda b: b.score)
    if others is None:
        others = () if beats else TERNARY if ternary else _IN_STRETCHES
    others = [n for n in others if n % best.beats and best.beats % n and max(n, best.beats) <= _LONGEST]
    lines = best.downbeats
    if others:
        meters = [best.beats, *others]
        repeats = _repeats(repetition_around(alike, _AROUND), meters)
        lines = _best_bar_lines(evidence, meters, ODD_BAR, _flags(evidence, unsure), repeats)
    return replace(best, downbeats=lines, scores={b.beats: b.score for b in found})


def main_beats(downbeats: Ints) -> int:
    """The number of beats that most bars have. ``downbeats``: two or more."""
    return int(np.bincount(np.diff(downbeats)).argmax())


def usual_beats(downbeats: Ints, main: int) -> Ints:
    """How many beats each bar should have, ``(downbeats,)``: those of the stretch of equal bars that it lies in, or
    between two such stretches that are alike; else the ``main`` number. ``downbeats``: indices of the beats that open
    a bar."""
    runs = [(length, len(list(bars))) for length, bars in groupby(np.diff(downbeats).tolist())]
    stretches = [length if count >= _STRETCH and length > 1 else 0 for length, count in runs]
    usual: list[int] = []
    for k, (_, count) in enumerate(runs):
        before = next((n for n in reversed(stretches[:k]) if n), 0)
        after = next((n for n in stretches[k + 1 :] if n), before)
        around = after if before in (0, after) else 0
        usual += [stretches[k] or around or main] * count
    # the last bar has no end: it is as the one before
    return np.array([*usual, *(usual[-1:] or [main])], dtype=np.int64)


def irregularity(downbeats: Ints) -> float:
    """What the odd bars and the changes of meter between bar lines cost, in nats; the main meter is the one with most
    bars."""
    lengths = np.diff(downbeats)
    if not len(lengths):
        return 0.0
    main = main_beats(downbeats)
    usual = usual_beats(downbeats, main)
    odd = np.count_nonzero(lengths != usual[:-1]) + np.count_nonzero(np.diff(usual))
    return ODD_BAR * odd + NEW_METER * np.count_nonzero(usual[[0, -1]] != main)


def divisions(
    evidence: Curve,
    similarity: Curve,
    candidates: Sequence[int] | None = None,
    ternary: bool = False,
    unsure: Flags | None = None,
    odd_bar: float = ODD_BAR,
) -> list[BarDivision]:
    """The best division for each main number of beats.

    Parameters
    ----------
    evidence : (beats,)
        How much each beat sounds like the first of a bar, in nats.
    similarity
        From :func:`core.tracking.downbeats.repetition`, of all beats.
    candidates
        The main numbers that are tried.
    ternary : bool
        Whether beats divide in three.
    unsure : (beats,)
        Beats that may be one too many, or follow one that is missing: a bar with one of them is likelier to be odd.
    odd_bar : float
        The price of an odd bar.
    """
    out = []
    for main in candidates or (TERNARY if ternary else BINARY):
        downs = _best_bar_lines(evidence, [main], odd_bar, _flags(evidence, unsure))
        out.append(rated(downs, main, evidence, similarity, ternary))
    return out


def rated(downbeats: Ints, main: int, evidence: Curve, similarity: Curve, ternary: bool) -> BarDivision:
    """A division into bars of mainly ``main`` beats with its score; other parameters as of :func:`divisions`."""
    on = np.zeros(len(evidence), dtype=bool)
    on[downbeats] = True
    alike = [float(similarity[n]) if n < len(similarity) else 0.0 for n in (main, 2 * main)]
    # a bar repeats at its own length, at twice it, and not between
    features = {
        "gap": float(evidence[on].mean() - evidence[~on].mean()) if on.any() and not on.all() else 0.0,
        "odd": float(np.mean(np.diff(downbeats) != main)) if len(downbeats) > 1 else 0.0,
        "alike": alike[0] + 0.5 * alike[1],
        "others": float(np.mean([similarity[k] for k in range(2, _LONGEST + 1) if k % main])) if main > 1 else 0.0,
    }
    usual = METER_WEIGHTS.get(meter_name(main, ternary), RARE_METER)
    score = usual + sum(DIVISION_WEIGHTS[name] * value for name, value in features.items())
    return BarDivision(downbeats, main, score, {}, features)


def _flags(evidence: Curve, unsure: Flags | None) -> Flags:
    return np.zeros(len(evidence), dtype=bool) if unsure is None else unsure


def _repeats(around: Curve, meters: Sequence[int]) -> Curve:
    """How much more each beat and those around it repeat at the bar length of each meter than at that of the first,
    ``(beats - 1, meters)``, in nats. ``around``: their repetition at each lag."""

    def at(beats: int) -> Curve:
        between = [k for k in range(2, _LONGEST + 1) if k % beats]
        return np.asarray((around[:, beats] + 0.5 * around[:, 2 * beats]) / 1.5 - around[:, between].mean(axis=1))

    found = np.stack([at(beats) for beats in meters], axis=1)
    return np.asarray(REPEATS_IN_METER * (found - found[:, :1]))


def _best_bar_lines(
    evidence: Curve, meters: Sequence[int], odd_bar: float, unsure: Flags, repeats: Curve | None = None
) -> Ints:
    """The bar lines whose evidence is largest together, less what odd bars and changes of meter cost.

    ``meters``: beats a bar of the main meter, then of those that stretches may be in; ``repeats``: what speaks for each
    of them at each beat (:func:`_repeats`). Bars have up to three beats more or fewer than their meter; one of a single
    beat costs twice as much, one with an unsure beat half. The first line lies among the first beats, as many as a main
    bar has, the last among the last, as many as the longest has.
    """
    n, main = len(evidence), meters[0]
    if n <= main:
        return np.array([np.argmax(evidence)]) if n else np.zeros(0, dtype=np.int64)
    lengths = np.arange(max(1, min(meters) - _MOST_ODD), max(meters) + _MOST_ODD + 1)
    off = np.abs(lengths - np.array(meters)[:, None])
    price = np.where(off == 0, 0.0, odd_bar * np.where(lengths > 1, 1, 2))[None]
    if unsure.any():
        until = np.concatenate([[0], np.cumsum(unsure)])  # how many there are before each beat
        begin = np.maximum(np.arange(n)[:, None] + 1 - lengths, 0)
        price = np.where(until[1:, None] > until[begin], _WHERE_UNSURE, 1.0)[:, None] * price
    if repeats is not None:
        sums = np.concatenate([np.zeros((1, len(meters))), np.cumsum(repeats, axis=0)])
        begin = np.maximum(np.arange(n)[:, None] - lengths, 0)
        price = price - np.moveaxis(sums[:, None] - sums[begin], 1, 2)
    price = np.where(off > _MOST_ODD, -IMPOSSIBLE, price)
    opening = np.where(np.arange(n) < main, evidence, -np.inf)
    lines, _, score = best_manners(
        evidence,
        lengths,
        shift=np.zeros(off.shape, dtype=np.int64),
        prior=price.reshape(len(price), -1),
        ends=np.where(np.arange(len(meters)) == 0, 0.0, NEW_METER)[:, None] * np.ones(len(lengths)),
        cost=np.zeros((*off.shape, len(lengths))),
        # the bar before a change is an odd one of the new meter: that is what a change costs
        over=np.zeros((len(meters), len(meters))),
        hold=np.inf,
        held=(2.0, 2.0),
        opening=opening,
        last=max(0, n - max(meters)),
    )
    # a take of less than two bars may have a single line
    single = np.arange(n - main, min(n, main))
    best = int(single[np.argmax(evidence[single])]) if len(single) else 0
    return np.array([best]) if not len(lines) or (len(single) and evidence[best] > score) else lines
