"""Which beats are downbeats: evidence a beat, then the best division of the beats into bars.

What marks a bar's first beat (common practice, and the features of Böck, Krebs and Widmer 2016): low
drums and basses strike, the harmony changes, patterns repeat after a bar; the backbeat answers between.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from core.beats.fitted import fitted
from core.beats.fusion import Player, punch

Curve = NDArray[np.float64]
Ints = NDArray[np.int64]

#: What a bar costs whose length is not the main one, in nats of downbeat evidence; how much the players' own evidence
#: counts (in spreads), beside the activation's log-odds of a downbeat.
_EVIDENCE = fitted("downbeats")
ODD_BAR, SHOWN = _EVIDENCE["odd bar"], _EVIDENCE["shown"]
#: What a division into bars is worth: ``gap``, how far downbeats stand out; ``odd``, the share of odd bars; ``alike``
#: and ``others``, how alike beats are at the bar's length and at lengths between; and how common each number of felt
#: beats is, where beats divide in two and in three.
WORTH, USUAL = fitted("bars"), fitted("meters")
BINARY, TERNARY = (2, 3, 4, 5, 6, 7), (2, 3, 4)


def kind(beats: int, ternary: bool) -> str:
    """The name by which :data:`USUAL` has a bar of so many felt beats."""
    return f"{beats} in three" if ternary else str(beats)


@dataclass(frozen=True)
class Mix:
    """All players' evidence together, frames at 100 a second."""

    flux: NDArray[np.float32]
    energy: NDArray[np.float32]
    chroma: NDArray[np.float32]

    @classmethod
    def of(cls, players: Sequence[Player]) -> Mix:
        n = max(len(p.evidence) for p in players)

        def total(parts: list[NDArray[np.float32]]) -> NDArray[np.float32]:
            out = np.zeros((n, parts[0].shape[1]), dtype=np.float32)
            for part in parts:
                out[: len(part)] += part
            return out

        return cls(
            total([p.evidence.flux for p in players]),
            total([p.evidence.energy for p in players]),
            total([p.evidence.chroma for p in players]),
        )


def _at(curve: NDArray[Any], frames: Ints, reach: int = 4) -> Curve:
    wide = maximum_filter1d(curve, 2 * reach + 1, axis=0)
    return wide[np.clip(frames, 0, len(curve) - 1)]


def _z(x: Curve) -> Curve:
    spread = x.std()
    return np.clip((x - x.mean()) / spread, -3, 3) if spread > 1e-12 else np.zeros_like(x)


def _segments(values: NDArray[np.float32], frames: Ints) -> NDArray[np.float64]:
    """Mean of ``values`` (frames, n) from each beat to the next; the last as long as the one before."""
    sums = np.concatenate([np.zeros((1, values.shape[1])), np.cumsum(values, axis=0, dtype=np.float64)])
    edges = np.append(frames, 2 * frames[-1] - frames[-2])
    edges = np.clip(edges, 0, len(values))
    return (sums[edges[1:]] - sums[edges[:-1]]) / np.maximum(np.diff(edges), 1)[:, None]


def downbeat_evidence(players: Sequence[Player], mix: Mix, frames: Ints, ear: Curve) -> Curve:
    """For each beat how much it sounds like a downbeat, as log-odds. ``ear``: how likely beats and downbeats are,
    ``(frames, 2)``."""
    return SHOWN * players_evidence(players, mix, frames) + activation_evidence(ear, frames)


def players_evidence(players: Sequence[Player], mix: Mix, frames: Ints) -> Curve:
    """For each beat how much the players make it sound like a downbeat; mean 0, spread about 1.

    Each kind of evidence counts by how strongly it repeats bar by bar in this take: a lone melody has no
    harmony to speak of, a bass line may play every beat alike.
    """
    low = _stands_out(_at(mix.flux, frames)[:, 0])
    louds = [
        np.max([p.evidence.energy[np.minimum(frames + k, len(p.evidence) - 1), 0] for k in range(12)], axis=0)
        for p in players
    ]  # low instruments in the first 120 ms: a bass that rings on shows no new attack
    deepest = max(float(x.mean()) for x in louds) or 1.0
    loud = np.zeros(len(frames))
    together = np.zeros(len(frames))
    harmony = np.zeros(len(frames))
    for p, own_level in zip(players, louds, strict=True):
        e = p.evidence
        here = np.minimum(frames, len(e) - 1)
        # who has little in the lows (a snare) does not speak for the low drum
        own_loud = _stands_out(own_level) * (float(own_level.mean()) / deepest) ** 2
        loud += own_loud * _pattern(own_loud)
        # nearly everybody plays stronger on one; who answers the low drum (a backbeat) speaks with the other sign
        own = _stands_out(_at(e.flux.sum(axis=1), here))
        together += own * np.clip(2 * np.mean(own * low) + 0.15, -1, 1)
        # chords change on one; sustaining players show it best, and hiss that flickers is no chord
        chroma = np.sqrt(_segments(e.chroma, here))
        near = _change(chroma, 1)
        change = _stands_out(_stands_out(near) + _stands_out(_change(chroma, 2)))
        chordal = float(np.clip(1 - punch(p) / 4, 0.1, 1)) * min(1.0, float(near.std()) / 0.005)
        harmony += change * chordal * _pattern(change)
    kinds = ((1.0, _z(loud)), (0.4, low), (0.8, _z(together)), (0.9, _z(harmony)))
    return _z(np.sum([weight * kind * (0.3 + _pattern(kind)) for weight, kind in kinds], axis=0))


def activation_evidence(ear: Curve, frames: Ints) -> Curve:
    """How likely each beat opens a bar to the beat activation, as log-odds."""
    beat, down = _at(ear, frames, 3).T
    share = np.clip(down / np.maximum(np.maximum(beat, down), 0.15), 0.02, 0.98)
    return np.asarray(np.log(share / (1 - share)))


def _stands_out(x: Curve, span: int = 17) -> Curve:
    """``x`` against its neighbourhood of some bars, spread 1: a quiet verse has its downbeats as a loud one has."""
    return _z(x - uniform_filter1d(np.asarray(x, dtype=np.float64), span, mode="nearest"))


def _pattern(kind: Curve) -> float:
    """How much of a kind's variation repeats at some bar length from 2 to 7 beats: 0 for noise, towards 1.

    The share of variance between the beats of the bar, above what chance gives, in stretches of 32 beats
    (so that an odd bar spoils only one of them).
    """
    whole = len(kind) // 32 * 32
    parts: list[Curve] = [kind[:whole].reshape(-1, 32)] if whole else []
    if len(kind) - whole > 15 or not whole:
        parts.append(kind[None, whole:])
    best = 0.0
    for m in range(2, 8):
        shares = np.concatenate([_between(part, m) for part in parts])
        best = max(best, float(shares.mean())) if len(shares) else best
    return best


def _between(parts: Curve, m: int) -> Curve:
    """For each of some ``parts`` (n, beats) the share of its variance that lies between ``m`` places of the bar."""
    total, beats = parts.var(axis=1), parts.shape[1]
    parts, total = parts[total >= 1e-9], total[total >= 1e-9]
    if beats < 3 * m or not len(parts):
        return np.zeros(0)
    means = parts[:, : beats // m * m].reshape(len(parts), -1, m).mean(axis=1)
    chance = (m - 1) / (beats - 1)
    return np.asarray(np.maximum(0.0, means.var(axis=1) / total - chance) / (1 - chance))


def _change(chroma: Curve, span: int) -> Curve:
    """One minus the cosine between the ``span`` beats before and the ``span`` beats from each beat on."""
    sums = np.concatenate([np.zeros((1, chroma.shape[1])), np.cumsum(chroma, axis=0)])
    k = np.arange(len(chroma))
    before = sums[k] - sums[np.maximum(k - span, 0)]
    after = sums[np.minimum(k + span, len(chroma))] - sums[k]
    norm = np.linalg.norm(before, axis=1) * np.linalg.norm(after, axis=1)
    return np.where(norm > 1e-9, 1 - (before * after).sum(axis=1) / np.maximum(norm, 1e-9), 0.0)


def repetition(mix: Mix, frames: Ints, longest: int = 16) -> Curve:
    """How alike beats are at a distance of 0 to ``longest`` beats, against all distances; spread 1."""
    parts = []
    for f in np.arange(4) / 4:  # quarters of the beat carry the pattern
        inner = frames[:-1] + np.round(f * np.diff(frames)).astype(np.int64)
        parts.append(_at(np.log1p(10 * mix.flux.astype(np.float64)), inner))
    chroma = np.log1p(200 * _segments(mix.chroma, frames))[:-1]
    pattern = np.concatenate([_columns_z(np.concatenate(parts, axis=1)), 0.7 * _columns_z(chroma)], axis=1)
    out = np.zeros(longest + 1)
    for lag in range(1, min(longest + 1, len(pattern) - 4)):
        out[lag] = np.mean((pattern[lag:] * pattern[:-lag]).mean(axis=1))
    return out


def _columns_z(x: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray((x - x.mean(axis=0)) / (x.std(axis=0) + 1e-9))


@dataclass(frozen=True)
class Bars:
    """``downbeats``: indices of beats that open a bar; ``beats``: the main number of felt beats a bar.

    ``score`` compares divisions of the same beats; ``scores`` has the best of each main number. ``numbers``: what the
    score is made of (see :data:`WORTH`).
    """

    downbeats: Ints
    beats: int
    score: float
    scores: dict[int, float]
    numbers: dict[str, float] = field(default_factory=dict)


def divide(
    evidence: Curve, likeness: Curve, beats: int | None = None, ternary: bool = False, odd_bar: float | None = None
) -> Bars:
    """The best division into bars of mainly ``beats`` (or of the best of 2 to 7), odd bars at a price."""
    found = divisions(evidence, likeness, [beats] if beats else None, ternary, odd_bar)
    best = max(found, key=lambda b: b.score)
    return replace(best, scores={b.beats: b.score for b in found})


def divisions(
    evidence: Curve,
    likeness: Curve,
    mains: Sequence[int] | None = None,
    ternary: bool = False,
    odd_bar: float | None = None,
) -> list[Bars]:
    """The best division for each main number of beats. ``likeness``: see :func:`repetition`."""
    out = []
    for main in mains or (TERNARY if ternary else BINARY):
        downs = _divide(evidence, main, ODD_BAR if odd_bar is None else odd_bar)
        on = np.zeros(len(evidence), dtype=bool)
        on[downs] = True
        # a bar repeats at its own length, at twice it, and not between
        numbers = {
            "gap": float(evidence[on].mean() - evidence[~on].mean()) if on.any() and not on.all() else 0.0,
            "odd": float(np.mean(np.diff(downs) != main)) if len(downs) > 1 else 0.0,
            "alike": float(likeness[main] + 0.5 * (likeness[2 * main] if 2 * main < len(likeness) else 0)),
            "others": float(np.mean([likeness[k] for k in range(2, 9) if k % main])),
        }
        score = sum(WORTH[name] * number for name, number in numbers.items()) + USUAL.get(kind(main, ternary), -0.5)
        out.append(Bars(downs, main, score, {}, numbers))
    return out


def _divide(evidence: Curve, main: int, odd_bar: float) -> Ints:
    """Viterbi over bar lines: those whose evidence is largest together, less what odd bars cost."""
    n = len(evidence)
    total = np.full(n, -np.inf)
    came_from = np.full(n, -1)
    for k in range(n):
        if k < main:
            total[k] = 0.0
        for length in range(max(1, main - 3), main + 4):
            if k - length >= 0:
                s = total[k - length] - (odd_bar * (1 if length > 1 else 2) if length != main else 0)
                if s > total[k]:
                    total[k], came_from[k] = s, k - length
        total[k] += evidence[k]
    k = n - main + int(np.argmax(total[-main:])) if n > main else int(np.argmax(total))
    downs = []
    while k >= 0:
        downs.append(k)
        k = int(came_from[k])
    return np.array(downs[::-1], dtype=np.int64)
