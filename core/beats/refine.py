"""From frames of 10 ms to the attack itself: each beat moves to the start of the guide's attack.

Where the best players strike near a beat, the beat goes to the start of the attack of the best of them.
Where nobody does, it follows the supported beats around it by least squares.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
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
    beats: Floats, players: Sequence[Player], ranks: Sequence[GuideRank], curve: Floats, late: Floats | None = None
) -> Placed:
    """Put each beat on the start of the guide's attack where there is a believable one.

    ``beats``: decoded times, rising. Each beat gets an observation and how far to trust it: attacks of clear
    players to the sample, soft ones and the peak of the fused ``curve`` within some 20 ms, nothing not at
    all. Then the chain is the one that agrees best with the observations and changes tempo least.
    """
    late = delays(beats, players, ranks) if late is None else late
    top = max((r.weight for r in ranks), default=0) or 1.0
    observed, spread = beats.copy(), np.full(len(beats), np.inf)
    support = np.zeros(len(beats))
    for k, t in enumerate(beats):
        times, worths, clear = [], [], []
        for p, r, d in zip(players, ranks, late, strict=True):
            a = p.attacks
            lo, hi = np.searchsorted(a.seconds, [t + d - REACH, t + d + REACH])
            for j in range(lo, hi):
                off = a.seconds[j] - d - t
                times.append(a.seconds[j] - d)
                worths.append(r.weight / top * a.strength[j] * np.exp(-0.5 * (off / 0.025) ** 2))
                clear.append(r.clearness)
        if times:
            at, worth = np.array(times), np.array(worths)
            agree = (np.exp(-0.5 * ((at[:, None] - at[None, :]) / 0.006) ** 2) * worth[None, :]).sum(axis=1)
            best = int(np.argmax(agree * np.sqrt(worth)))
            support[k] = min(1.0, agree[best] / 1.5)
            sharp = float(np.clip((clear[best] - 0.35) / 0.2, 0, 1))  # a strummed guitar is half-way
            if agree[best] > 0.12:
                observed[k], spread[k] = at[best], 0.0003 + 0.022 * (1 - sharp) / (0.3 + support[k])
        if spread[k] > 0.015:
            peak, height = _peak(curve, t)
            if height > 0.25:
                support[k] = max(support[k], min(0.7, 0.6 * height))
                if not np.isfinite(spread[k]):
                    observed[k], spread[k] = peak, 0.02 / height
                else:
                    observed[k] = 0.5 * (observed[k] + peak)
    return Placed(_smooth(beats, observed, spread), support)


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
