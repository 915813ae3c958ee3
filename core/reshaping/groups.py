"""Which tracks are microphones of one instrument: they strike together, and so have to move together."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from core.listening.guides import onset_envelope
from core.listening.roles import KIT, role_of
from core.listening.track import AnalysedTrack

#: Words of a name that say where the microphone stands, not what it hears.
_PLACES = re.compile(
    r"\b(in|out|top|bottom|close|far|near|left|right|l|r|di|amp|mic|mike|room|spot|\d+)\b|[\d_.-]+", re.IGNORECASE
)
#: Correlation of two tracks' onset envelopes, at the best lag within 40 ms: so much bears out what their names say, and
#: with so much they are one sound whatever they are called.
_BORNE_OUT, _ONE_SOUND = 0.3, 0.92
_LAGS = 4  # frames


def suggest_groups(tracks: Sequence[AnalysedTrack]) -> list[list[int]]:
    """Places of tracks that belong together, in groups of two or more: by their names where the sound agrees."""
    if len(tracks) < 2:
        return []
    frames = max(len(t.evidence) for t in tracks)
    envelopes = np.array([onset_envelope(t, frames) for t in tracks])
    envelopes -= envelopes.mean(axis=1, keepdims=True)
    roles = [role_of(t) for t in tracks]
    found: list[list[int]] = []
    for i, track in enumerate(tracks):
        for group in found:
            named = any(_named_alike(track, tracks[j], roles[i], roles[j]) for j in group)
            likeness = max(_likeness(envelopes[i], envelopes[j]) for j in group)
            if likeness >= (_BORNE_OUT if named else _ONE_SOUND):
                group.append(i)
                break
        else:
            found.append([i])
    return [g for g in found if len(g) > 1]


def _named_alike(one: AnalysedTrack, other: AnalysedTrack, role: str, other_role: str) -> bool:
    if role in KIT and other_role in KIT:
        return True
    a, b = (" ".join(_PLACES.sub(" ", t.name).split()).lower() for t in (one, other))
    return bool(a) and a == b


def _likeness(a: NDArray[np.float64], b: NDArray[np.float64]) -> float:
    power = float(np.sqrt((a**2).sum() * (b**2).sum()))
    if power <= 0:
        return 0.0
    n = len(a)
    lags = range(-_LAGS, _LAGS + 1)
    return max(float(a[max(0, k) : n + min(0, k)] @ b[max(0, -k) : n - max(0, k)]) for k in lags) / power
