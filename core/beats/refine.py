"""From frames of 10 ms to the attack itself: each beat moves to the start of the guide's attack.

Where the best players strike near a beat, the beat goes to the start of the attack of the best of them.
Where nobody does, it is interpolated between the supported beats around it.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from core.beats.fusion import GuideRank, Player
from core.listening.spectrum import FRAME_RATE

Floats = NDArray[np.float64]

#: How far a beat may move from its decoded frame to an attack, in seconds.
REACH = 0.045


def delays(beats: Floats, players: Sequence[Player], ranks: Sequence[GuideRank]) -> Floats:
    """How late each player is against the clearest one, in seconds, measured at the beats they play.

    A room pair hears everybody some milliseconds late; a bass may lean back all through the take. The
    clearest player is late by definition of nothing: the beat sits on that attack.
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


def to_attacks(beats: Floats, players: Sequence[Player], ranks: Sequence[GuideRank]) -> tuple[Floats, Floats]:
    """Beats (seconds) moved to attacks, and how well each is supported, 0 to 1.

    ``beats``: decoded times, rising. Support is the weighted strength of the attacks that agree.
    """
    late = delays(beats, players, ranks)
    top = max((r.weight for r in ranks), default=0) or 1.0
    moved = beats.copy()
    support = np.zeros(len(beats))
    for k, t in enumerate(beats):
        times, worths = [], []
        for p, r, d in zip(players, ranks, late, strict=True):
            a = p.attacks
            lo, hi = np.searchsorted(a.seconds, [t + d - REACH, t + d + REACH])
            for j in range(lo, hi):
                off = a.seconds[j] - d - t
                times.append(a.seconds[j] - d)
                worths.append(r.weight / top * a.strength[j] * np.exp(-0.5 * (off / 0.025) ** 2))
        if not times:
            continue
        at, worth = np.array(times), np.array(worths)
        agree = (np.exp(-0.5 * ((at[:, None] - at[None, :]) / 0.006) ** 2) * worth[None, :]).sum(axis=1)
        best = int(np.argmax(agree * np.sqrt(worth)))
        support[k] = min(1.0, agree[best] / 1.5)
        if agree[best] > 0.12:
            moved[k] = at[best]
    return _interpolated(beats, moved, support > 0.08), support


def _interpolated(beats: Floats, moved: Floats, held: NDArray[np.bool_]) -> Floats:
    """Beats without support follow the shift of their supported neighbours, so tempo stays smooth."""
    if held.sum() < 2:
        return moved
    k = np.arange(len(beats))
    # the decoded chain is quantised to frames: even the runs between supported beats in beat count
    out = moved.copy()
    out[~held] = np.interp(k[~held], k[held], moved[held])
    ends = (k < k[held][0]) | (k > k[held][-1])
    out[ends] = beats[ends]
    # strictly rising whatever the attacks said
    for i in range(1, len(out)):
        if out[i] <= out[i - 1] + 1 / FRAME_RATE:
            out[i] = out[i - 1] + max(1 / FRAME_RATE, beats[i] - beats[i - 1])
    return out
