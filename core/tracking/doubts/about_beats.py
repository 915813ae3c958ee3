"""Doubts about beats: low confidence, sudden tempos, strong attacks beside a beat."""

from __future__ import annotations

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from core.document.commands import Insert
from core.tracking.doubts.doubt import LISTEN, WRONG, Doubt, Remedy
from core.tracking.doubts.map_view import MapView, merged, nearest_attack_remedy, redetect_remedy, runs
from core.tracking.parameters import UNSURE, UNSURE_RUN

Floats = NDArray[np.float64]

#: Confidence under which a beat is probably wrong.
_PROBABLY_WRONG = 0.25
#: Mean support under which beats count as having no attack; under which one beat may have one beside it.
_NO_ATTACK, _LITTLE_ATTACK = 0.1, 0.15
#: Confidence under which an attack beside a beat is worth a doubt.
_BESIDE_UNSURE = 0.6
#: Intervals on either side that count as an interval's neighbours.
_NEIGHBOURS = 4
#: A beat that lasts so many times its neighbours may be a hold; where the one before it is shorter than this.
_HOLD, _BEFORE_HOLD = 1.6, 1.45
#: From here on a beat is about twice as long as its neighbours: no tempo that is meant.
_TWICE = 1.85
#: An inserted beat goes to an attack within so many seconds of the middle.
_INSERT_WITHIN = 0.06
#: Tempo against its neighbours (natural logarithm) that is worth a doubt, and that is probably wrong.
_JUMP, _WRONG_JUMP = 0.13, 0.28
#: Seconds within which a strong attack lies beside a beat, from where it is no longer on it, and how strong it is; the
#: track's clearness, as a share of the clearest one's.
_BESIDE, _ON_IT, _STRONG, _CLEAR = 0.12, 0.03, 0.6, 0.5


def weak(view: MapView) -> list[Doubt]:
    """Runs of beats with low confidence, or that no attack supports."""
    out = []
    for i, j in runs(view.confidence < UNSURE, join=2):
        if view.confidence[i : j + 1].min() > UNSURE_RUN:
            continue
        bare = float(np.mean(view.support[i : j + 1])) < _NO_ATTACK
        worst = float(view.confidence[i : j + 1].min())
        severity = WRONG if worst < _PROBABLY_WRONG else LISTEN
        n = j - i + 1
        if bare:
            words = f"No attacks at {n} beat{'s' * (n > 1)} here: {'they are' if n > 1 else 'it is'} interpolated."
            out.append(view.doubt("no-attack", i, j, severity, words, [redetect_remedy(view, i, j)]))
        else:
            words = f"The beats here are uncertain: lowest confidence {round(100 * worst)} %."
            out.append(
                view.doubt(
                    "weak", i, j, severity, words, [redetect_remedy(view, i, j), *nearest_attack_remedy(view, i)]
                )
            )
    return out


def _usual_around(intervals: Floats) -> Floats:
    """The median of each interval and its neighbours."""
    padded = np.pad(intervals, _NEIGHBOURS, constant_values=np.nan)  # there are fewer at the ends
    return np.asarray(np.nanmedian(sliding_window_view(padded, 2 * _NEIGHBOURS + 1), axis=1))


def jumps(view: MapView) -> list[Doubt]:
    """Tempos far from their neighbours, which betray a wrong beat; one very long beat may be a hold."""
    out = []
    g = view.intervals
    for k, around in enumerate(_usual_around(g)):
        ratio = g[k] / around
        if ratio > _HOLD and (k == 0 or g[k - 1] < _BEFORE_HOLD * around):
            words = f"One beat lasts {ratio:.1f} times its neighbours: a hold, or a beat is missing."
            middle = float(view.seconds[k] + g[k] / 2)
            remedies = [Remedy("insert a beat in the middle", Insert(middle, snap_within=_INSERT_WITHIN))]
            severity = WRONG if ratio > _TWICE else LISTEN
            out.append(view.doubt("hold", k, k + 1, severity, words, [*remedies, redetect_remedy(view, k, k + 1)]))
        elif abs(np.log(ratio)) > _JUMP:
            words = f"The tempo jumps to {60 / g[k]:.0f} where its neighbours have {60 / around:.0f}."
            severity = WRONG if abs(np.log(ratio)) > _WRONG_JUMP else LISTEN
            out.append(
                view.doubt(
                    "jump",
                    k,
                    k + 1,
                    severity,
                    words,
                    [redetect_remedy(view, k, k + 1), *nearest_attack_remedy(view, k + 1)],
                )
            )
    return merged(out)


def beside(view: MapView) -> list[Doubt]:
    """A strong attack of a clear player close to a beat that has none itself."""
    out = []
    top = max((r.weight * r.clearness for r in view.context.ranks), default=1.0)
    for i in np.flatnonzero((view.support < _LITTLE_ATTACK) & (view.confidence < _BESIDE_UNSURE)):
        for p, r in zip(view.context.tracks, view.context.ranks, strict=True):
            if r.weight * r.clearness < _CLEAR * top:
                continue
            a = p.attacks
            lo, hi = np.searchsorted(a.seconds, [view.seconds[i] - _BESIDE, view.seconds[i] + _BESIDE])
            near = [
                k for k in range(lo, hi) if abs(a.seconds[k] - view.seconds[i]) > _ON_IT and a.strength[k] > _STRONG
            ]
            if near:
                by = 1000 * (float(a.seconds[near[0]]) - float(view.seconds[i]))
                words = f"{p.name} has a strong attack {abs(by):.0f} ms {'after' if by > 0 else 'before'} this beat."
                out.append(view.doubt("beside", int(i), int(i), LISTEN, words, nearest_attack_remedy(view, int(i))))
                break
    return out
