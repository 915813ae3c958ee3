"""Which engine suits a track, and which of its attacks are to keep their shape."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from core.listening.attacks import Attacks
from core.listening.roles import KIT, named_role
from core.listening.track import AnalysedTrack
from core.reshaping.engines import EngineName

Floats = NDArray[np.float64]

#: Percussiveness from which on a track is all strokes, and below which it has hardly any (drums 4 to 6, a bow under 1).
_STROKES, _FLOWING = 3.0, 1.2
#: Sharp attacks a second from which on a dense mix holds strokes, however little they rise above it.
_STRUCK_OFTEN = 1.0
#: Share of the sound in a frame's pitch classes (sum of squares; 0.083 where all twelve sound alike) from which on it
#: is mostly one note at a time; chosen on the demo's players.
_ONE_NOTE = 0.2
#: Frames softer than this share of the track's loud ones say nothing of its pitches.
_AUDIBLE = 0.2
#: How sharp an attack has to be so that a sound of steady pitch begins anew there; strength that an attack needs.
_SHARP, _STRONG = 0.5, 0.15
#: Seconds within which attacks are one.
_ONE = 0.012


class Suggestion(NamedTuple):
    """An engine, and why in words for the engineer."""

    engine: EngineName
    reason: str


def suggest_engine(tracks: Sequence[AnalysedTrack]) -> Suggestion:
    """The engine that suits a track, or the microphones of one instrument, by percussiveness and pitches; of several
    the most percussive one decides. Hats and toms that are mostly bleed are known by their names."""
    track = max(tracks, key=lambda t: t.evidence.percussiveness)
    struck = track.evidence.percussiveness
    if struck >= _STROKES:
        return Suggestion("cut", "strokes that die away")
    if any(named_role(t.name) in KIT and len(t.attacks) for t in tracks):
        return Suggestion("cut", "a drum, by its name")
    if struck >= _FLOWING or any(_sharp_attacks(t) >= _STRUCK_OFTEN for t in tracks):
        return Suggestion("blend", "strokes and long notes")
    if _concentration(track) >= _ONE_NOTE:
        return Suggestion("voice", "one flowing note at a time")
    return Suggestion("tonal", "long notes, several at once")


def attacks_to_keep(attacks: Sequence[Attacks], engine: EngineName) -> Floats:
    """Seconds of the attacks that keep their shape, of one track or of all microphones of an instrument: with the tonal
    engine only sharp ones, as what holds on sounds through each of them. Attacks within 12 ms are one."""
    kept = []
    for one in attacks:
        keep = one.strength >= _STRONG
        if engine == "tonal":
            keep &= one.sharpness >= _SHARP
        kept.append(one.seconds[keep])
    seconds = np.sort(np.concatenate([np.zeros(0), *kept]))
    return seconds[np.diff(seconds, prepend=-np.inf) > _ONE] if len(seconds) else seconds


def _sharp_attacks(track: AnalysedTrack) -> float:
    """Attacks a second that can be placed exactly."""
    sharp = (track.attacks.sharpness >= _SHARP) & (track.attacks.strength >= 2 * _STRONG)
    return float(sharp.sum() / max(track.seconds, 1e-9))


def _concentration(track: AnalysedTrack) -> float:
    chroma = track.evidence.chroma.astype(np.float64)
    loud = chroma.sum(axis=1)
    audible = loud > _AUDIBLE * np.percentile(loud, 95) if len(loud) else np.zeros(0, dtype=np.bool_)
    if not audible.any():
        return 0.0
    shares = chroma[audible] / loud[audible, None]
    return float(np.median((shares**2).sum(axis=1)))
