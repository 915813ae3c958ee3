"""From frames of 10 ms to the attack itself: each beat moves to the start of the guide's attack.

Where the best players strike near a beat, the beat goes to the start of the attack of the best of them.
Where nobody does, it follows the supported beats around it by least squares.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy import sparse
from scipy.sparse.linalg import spsolve

from core.beats.fusion import GuideRank, Player
from core.listening.spectrum import FRAME_RATE

Floats = NDArray[np.float64]

#: How far a beat may move from its decoded frame to an attack, in seconds.
REACH = 0.045


def delays(beats: Floats, players: Sequence[Player], ranks: Sequence[GuideRank]) -> Floats:
    """How late each player is against the clearest one, in seconds, measured at the beats they play.

    A room pair hears everybody some milliseconds late; a bass may lean back all through the take. The
    clearest player is never late: the beat sits on that attack.
    """
    late = np.full(len(players), np.nan)
    share = np.zeros(len(players))
    for i, p in enumerate(players):
        times = p.attacks.seconds[p.attacks.strength > 0.25]
        if len(times) < 4:
            continue
        j = np.clip(np.searchsorted(times, beats), 1, len(times) - 1)
        before, after = times[j - 1] - beats, times[j] - beats
        gap = np.where(np.abs(before) < np.abs(after), before, after)
        near = gap[np.abs(gap) < REACH]
        share[i] = len(near) / len(beats)
        if len(near) >= 6:
            late[i] = float(np.median(near))
    clear = np.array([r.clearness for r in ranks]) ** 2 * np.minimum(1, 3 * share) * np.isfinite(late)
    reference = late[int(np.argmax(clear))] if clear.any() else 0.0
    return np.where(np.isfinite(late), late, reference) - reference


@dataclass(frozen=True)
class Placed:
    """Beats in seconds, with the weighted strength of the attacks that agree (``support``, 0 to 1)."""

    seconds: Floats
    support: Floats


def to_attacks(
    beats: Floats, players: Sequence[Player], ranks: Sequence[GuideRank], curve: Floats, ear: Floats
) -> Placed:
    """Put each beat on the start of the guide's attack where there is a believable one.

    ``beats``: decoded times, rising. Each beat gets an observation and how far to trust it: attacks of clear
    players to the sample; soft ones within some 20 ms, together with where the learned ``ear`` (its beats, 100
    frames a second) hears the beat; or the peak of the fused ``curve``; nothing not at all. Then the chain is the
    one that agrees best with the observations and changes tempo least.
    """
    late = delays(beats, players, ranks)
    where, sure = heard(ear, beats)
    _, _, _, clear = _struck(beats, beats, sure, players, ranks, late)
    told = (clear > 0) & (sure > 0.3)
    where = where + _bias(curve, where[told], clear[told])
    observed, spread, support, _ = _struck(beats, where, sure, players, ranks, late)
    for k, t in enumerate(beats):
        if spread[k] > 0.015:
            peak, height = _peak(curve, t)
            if height > 0.25:
                support[k] = max(support[k], min(0.7, 0.6 * height))
                if not np.isfinite(spread[k]):
                    observed[k], spread[k] = peak, 0.02 / height
    with np.errstate(divide="ignore"):
        trust, hearing = 1 / spread**2, np.where(sure > 0.1, (sure / HEARS) ** 2, 0.0)
    both = trust + hearing
    observed = np.where(both > 0, (trust * observed + hearing * where) / np.maximum(both, 1e-9), observed)
    spread = np.where(both > 0, 1 / np.sqrt(np.maximum(both, 1e-9)), np.inf)
    return Placed(_smooth(beats, observed, spread), support)


def _bias(curve: Floats, where: Floats, clear: Floats) -> float:
    """How much later than the ear hears beats (``where``, seconds) this take strikes them: the shift at which the
    attack curve is highest at all of them. ``clear``: of the attacks found at these beats.

    Drums know best; bows and voices speak in so many ways that they do too. Of a strum, in between, the ear knows
    better: its beat lies amid its strings, not on the first.
    """
    if len(where) < 8 or 0.35 < float(np.median(clear)) < 0.55:
        return 0.0
    shifts = np.arange(-0.03, 0.0401, 0.0025)
    at = (where[:, None] + shifts) * FRAME_RATE
    height = np.interp(at, np.arange(len(curve)), curve).mean(axis=0)
    return float(shifts[np.argmax(height)])


#: How far a beat that the ear is sure of lies from where it hears it, in seconds.
HEARS = 0.012


def _struck(
    beats: Floats,
    where: Floats,
    sure: Floats,
    players: Sequence[Player],
    ranks: Sequence[GuideRank],
    late: Floats,
) -> tuple[Floats, Floats, Floats, Floats]:
    """For each beat the attack on which the best players agree, how far to trust it (seconds, infinite without one),
    the weighted strength behind it, and the clearness of its player (0 without an attack)."""
    top = max((r.weight for r in ranks), default=0) or 1.0
    at = np.concatenate([p.attacks.seconds - d for p, d in zip(players, late, strict=True)])
    worth = np.concatenate([r.weight / top * p.attacks.strength for p, r in zip(players, ranks, strict=True)])
    clear = np.concatenate([np.full(len(p.attacks), r.clearness) for p, r in zip(players, ranks, strict=True)])
    sharp = np.concatenate([p.attacks.sharpness for p in players])
    order = np.argsort(at, kind="stable")
    at, worth, clear, sharp = at[order], worth[order], clear[order], sharp[order]
    aim = np.where(sure < 0.2, beats, (beats + where) / 2)
    first, last = np.searchsorted(at, [beats - REACH, beats + REACH])
    best, agreed = _agreed(at, worth, aim, first, last)
    found = best >= 0
    support = np.minimum(1.0, agreed / 1.5)
    # a strum is half-way
    edge = np.maximum(np.clip((clear[best] - 0.35) / 0.2, 0, 1), sharp[best]) if len(at) else np.zeros(len(beats))
    struck = found & (agreed > 0.12)
    observed = np.where(struck, at[best], beats) if len(at) else beats.copy()
    spread = np.where(struck, 0.0003 + 0.022 * (1 - edge) / (0.3 + support), np.inf)
    return observed, spread, support, np.where(struck, clear[best] if len(at) else 0.0, 0.0)


@njit(cache=True, nogil=True)
def _agreed(
    at: np.ndarray, worth: np.ndarray, aim: np.ndarray, first: np.ndarray, last: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """For each aim the attack among ``first`` to ``last`` with the most strength within some 6 ms of it (-1: none), and
    that strength; attacks count less the farther they lie from the aim."""
    best, agreed = np.full(len(aim), -1), np.zeros(len(aim))
    for k in range(len(aim)):
        count = last[k] - first[k]
        near = np.empty(count)
        for j in range(count):
            near[j] = worth[first[k] + j] * np.exp(-0.5 * ((at[first[k] + j] - aim[k]) / 0.025) ** 2)
        top = -1.0
        for j in range(count):
            total = 0.0
            for i in range(count):
                total += near[i] * np.exp(-0.5 * ((at[first[k] + j] - at[first[k] + i]) / 0.006) ** 2)
            if total * np.sqrt(near[j]) > top:
                top, best[k], agreed[k] = total * np.sqrt(near[j]), first[k] + j, total
    return best, agreed


def heard(ear: Floats, beats: Floats) -> tuple[Floats, Floats]:
    """Where the ear hears each beat, as the centre of what it says around, and how sure it is, 0 to 1."""
    middle = np.round(beats * FRAME_RATE).astype(int)
    around = np.clip(middle[:, None] + np.arange(-6, 7), 0, len(ear) - 1)
    peak = around[np.arange(len(beats)), ear[around].argmax(axis=1)]
    around = np.clip(peak[:, None] + np.arange(-4, 5), 0, len(ear) - 1)
    said = ear[around]
    return (said * around).sum(axis=1) / np.maximum(said.sum(axis=1), 1e-9) / FRAME_RATE, ear[peak]


def _peak(curve: Floats, t: float) -> tuple[float, float]:
    """The highest point of the fused curve around ``t``, to a fraction of a frame, and its height."""
    centre = round(t * FRAME_RATE)
    lo, hi = max(1, centre - 4), min(len(curve) - 1, centre + 5)
    if hi <= lo:
        return t, 0.0
    i = lo + int(np.argmax(curve[lo:hi]))
    a, b, c = curve[i - 1], curve[i], curve[i + 1]
    bend = a - 2 * b + c
    shift = float(np.clip(0.5 * (a - c) / bend, -0.5, 0.5)) if bend < 0 else 0.0
    return (i + shift) / FRAME_RATE, float(b)


def _smooth(beats: Floats, observed: Floats, spread: Floats) -> Floats:
    """Least squares: near the observations by their spread, with tempo changing by some 2.5 % a beat."""
    n = len(beats)
    trust = np.where(np.isfinite(spread), 1 / np.maximum(spread, 1e-4) ** 2, 1 / 0.15**2)
    anchor = np.where(np.isfinite(spread), observed, beats)
    even = 1 / (0.025 * float(np.median(np.diff(beats)))) ** 2
    # the changes of interval are small except where the decoded chain itself changes (a hold, an a tempo)
    jumps = np.abs(np.diff(beats, 2))
    weights = even / (1 + (jumps / (0.08 * np.diff(beats)[1:])) ** 2)
    second = sparse.diags([np.ones(n - 2), -2 * np.ones(n - 2), np.ones(n - 2)], [0, 1, 2], shape=(n - 2, n))
    goal = np.clip(np.diff(beats, 2), -1, 1) * (jumps > 0.08 * np.diff(beats)[1:])
    system = sparse.diags(trust) + second.T @ sparse.diags(weights) @ second
    out = np.asarray(spsolve(system.tocsc(), trust * anchor + second.T @ (weights * goal)))
    for i in range(1, n):  # strictly rising whatever the attacks said
        if out[i] <= out[i - 1] + 0.02:
            out[i] = out[i - 1] + max(0.02, beats[i] - beats[i - 1])
    return out
