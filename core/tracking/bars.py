"""Bars: the best division of the beats into bars, given how much each beat sounds like a downbeat."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from core.tracking.parameters import DIVISION_WEIGHTS, METER_WEIGHTS, ODD_BAR, RARE_METER
from core.tracking.semi_markov import best_chain

Curve = NDArray[np.float64]
Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]

#: Felt beats a bar that are tried, where beats divide in two and in three.
BINARY, TERNARY = (2, 3, 4, 5, 6, 7), (2, 3, 4)
#: An odd bar has so many beats more or fewer at most.
_MOST_ODD = 3
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
    similarity: Curve,
    beats: int | None = None,
    ternary: bool = False,
    unsure: Flags | None = None,
) -> BarDivision:
    """The best division into bars of mainly ``beats`` (or of the best of 2 to 7), odd bars at a price. Parameters as of
    :func:`divisions`."""
    found = divisions(evidence, similarity, [beats] if beats else None, ternary, unsure)
    best = max(found, key=lambda b: b.score)
    return replace(best, scores={b.beats: b.score for b in found})


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
        From :func:`core.tracking.downbeats.repetition`.
    candidates
        The main numbers that are tried.
    ternary : bool
        Whether beats divide in three.
    unsure : (beats,)
        Beats that may be one too many, or follow one that is missing: a bar with one of them is likelier to be odd.
    odd_bar : float
        The price of an odd bar.
    """
    unsure = np.zeros(len(evidence), dtype=bool) if unsure is None else unsure
    out = []
    for main in candidates or (TERNARY if ternary else BINARY):
        downs = _best_bar_lines(evidence, main, odd_bar, unsure)
        on = np.zeros(len(evidence), dtype=bool)
        on[downs] = True
        # a bar repeats at its own length, at twice it, and not between
        features = {
            "gap": float(evidence[on].mean() - evidence[~on].mean()) if on.any() and not on.all() else 0.0,
            "odd": float(np.mean(np.diff(downs) != main)) if len(downs) > 1 else 0.0,
            "alike": float(similarity[main] + 0.5 * (similarity[2 * main] if 2 * main < len(similarity) else 0)),
            "others": float(np.mean([similarity[k] for k in range(2, 9) if k % main])),
        }
        score = sum(DIVISION_WEIGHTS[name] * value for name, value in features.items()) + METER_WEIGHTS.get(
            meter_name(main, ternary), RARE_METER
        )
        out.append(BarDivision(downs, main, score, {}, features))
    return out


def _best_bar_lines(evidence: Curve, main: int, odd_bar: float, unsure: Flags) -> Ints:
    """The bar lines whose evidence is largest together, less what odd bars cost; bars of ``main - 3`` to ``main + 3``
    beats, one of a single beat at twice the price, one with an unsure beat at half. The first line lies among the first
    ``main`` beats, the last among the last."""
    n = len(evidence)
    if n <= main:
        return np.array([np.argmax(evidence)]) if n else np.zeros(0, dtype=np.int64)
    shortest = max(1, main - _MOST_ODD)
    lengths = np.arange(shortest, main + _MOST_ODD + 1)
    price = np.where(lengths == main, 0.0, odd_bar * np.where(lengths > 1, 1, 2))
    if unsure.any():
        until = np.concatenate([[0], np.cumsum(unsure)])  # how many there are before each beat
        begin = np.maximum(np.arange(n)[:, None] + 1 - lengths, 0)
        price = np.where(until[1:, None] > until[begin], _WHERE_UNSURE, 1.0) * price
    opening = np.where(np.arange(n) < main, evidence, -np.inf)
    free = np.zeros((len(lengths), len(lengths)))
    lines, score = best_chain(evidence, shortest, price, free, opening=opening, last=n - main)
    # a take of less than two bars may have a single line
    single = np.arange(n - main, min(n, main))
    best = int(single[np.argmax(evidence[single])]) if len(single) else 0
    return np.array([best]) if not len(lines) or (len(single) and evidence[best] > score) else lines
