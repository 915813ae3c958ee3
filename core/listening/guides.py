"""Guides: how well each track marks the beat, and one onset envelope of all tracks, weighted by that."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, maximum_filter1d, uniform_filter1d

from core.listening import envelopes
from core.listening.rates import FRAME_RATE
from core.listening.roles import role_of
from core.listening.track import AnalysedTrack

Envelope = NDArray[np.float64]

#: A track with fewer attacks is no guide.
LEAST_ATTACKS = 4
#: Weight of new partials in the onset envelope of a soft track, against its attacks.
_PARTIAL_WEIGHT = 1.2
#: Percussiveness at which a track's envelope is all attacks, and at which its clearness is 0.5.
_PERCUSSIVE = 2.0
#: Weights of the flux itself: of any track, and more the softer it is.
_FLUX_WEIGHT, _SOFT_FLUX_WEIGHT = 0.25, 0.35
#: Width of an attack in the envelope: a Gaussian of so many frames.
_ATTACK_WIDTH = 1.2
#: Lags (frames) among which attacks are searched for regularity: 0.25 to 1.6 s.
_REGULAR_LAGS = slice(25, 160)
#: Frames of the slow trend that is taken out before an envelope is compared with itself.
_TREND = 300
#: How much a track counts as guide that repeats at no lag.
_IRREGULAR = 0.15
#: Clearness and regularity from which on a track's attacks are called sharp, fair; very even, fairly even.
_SHARP, _FAIR, _VERY_EVEN, _FAIRLY_EVEN = 0.5, 0.3, 0.5, 0.25
#: Tracks by which nobody is guided if there are others: what they hear came late, and from everybody.
_FAR, _FAR_WEIGHT = ("room", "mix"), 0.5
#: The level to which the fused envelope is raised: its maximum within so many frames, smoothed by so many; its overall
#: level is this percentile, and nothing is raised above the share of it; strong attacks stop at the last.
_LOCAL_FRAMES, _LOCAL_BLUR, _OVERALL, _LEAST_LOCAL, _MOST = 301, 150, 97, 0.15, 1.5


@dataclass(frozen=True)
class GuideRank:
    """How well a track serves as guide. ``clearness`` and ``regularity`` are 0 to 1, ``weight`` sums to 1 over tracks.

    ``reason``: the same in words, for the engineer.
    """

    name: str
    weight: float
    clearness: float
    regularity: float
    reason: str


_NO_ATTACKS = "hardly an attack"


def no_guide(name: str) -> GuideRank:
    """The rank of a track with hardly an attack."""
    return GuideRank(name, 0.0, 0.0, 0.0, _NO_ATTACKS)


def onset_envelope(track: AnalysedTrack, frames: int) -> Envelope:
    """How strongly something new starts at each of ``frames`` frames, about 0 to 1.

    Of percussive tracks the attacks at their placed times, as narrow bumps. The softer the track, the more its flux and
    new partials count instead, as bows and voices change pitch without an attack.
    """
    soft = float(np.clip(1 - track.evidence.percussiveness / _PERCUSSIVE, 0, 1))
    envelope = np.zeros(frames)
    at = np.round(track.attacks.seconds * FRAME_RATE).astype(int)
    inside = (at >= 0) & (at < frames)
    np.maximum.at(envelope, at[inside], track.attacks.strength[inside])
    envelope = (1 - soft) * gaussian_filter1d(envelope, _ATTACK_WIDTH) * _ATTACK_WIDTH * np.sqrt(2 * np.pi)
    flux = envelopes.flux_envelope(track.evidence.flux)
    # the flux of a frame peaks about one frame after the attack it comes from
    n = min(frames, len(flux) - 1)
    envelope[:n] += (_FLUX_WEIGHT + _SOFT_FLUX_WEIGHT * soft) * flux[1 : n + 1]
    if soft > 0:
        partials = envelopes.partial_flux_envelope(track.evidence.partial_flux)[:frames]
        envelope[: len(partials)] += _PARTIAL_WEIGHT * soft * partials
    return np.asarray(envelope)


def periodicity(envelope: Envelope, longest: int = 250) -> Envelope:
    """Autocorrelation of an envelope without its slow trend, at lags 0 to ``longest`` frames, 1 at lag 0."""
    x = envelope - uniform_filter1d(envelope, _TREND)
    n = 1 << int(np.ceil(np.log2(len(x) + longest + 1)))
    spectrum = np.fft.rfft(x, n)
    ac = np.fft.irfft(spectrum * np.conj(spectrum), n)[: longest + 1]
    return ac / ac[0] if ac[0] > 0 else np.zeros(longest + 1)


def rank_guides(tracks: Sequence[AnalysedTrack], given: Mapping[str, float] | None = None) -> list[GuideRank]:
    """Rate each track as guide, in the order given. Weights that the engineer gives (by name) take precedence.

    Clearness: how far the track's strongest attacks rise at once over all bands. Regularity: how strongly its onsets
    repeat at some lag between 0.25 and 1.6 seconds.
    """
    clear, regular, count = [], [], []
    for track in tracks:
        count.append(len(track.attacks))
        if len(track.attacks) < LEAST_ATTACKS:
            clear.append(0.0)
            regular.append(0.0)
            continue
        envelope = onset_envelope(track, len(track.evidence))
        struck = track.evidence.percussiveness
        clear.append(struck / (struck + _PERCUSSIVE))
        regular.append(float(np.clip(periodicity(envelope)[_REGULAR_LAGS].max(), 0, 1)))
    raw = np.array(clear) ** 2 * (_IRREGULAR + np.array(regular))
    raw *= [_FAR_WEIGHT if role_of(t) in _FAR else 1.0 for t in tracks]
    weight = raw / raw.sum() if raw.sum() > 0 else np.full(len(raw), 1 / max(1, len(raw)))
    if (named := given_weights(tracks, given)) is not None:
        weight = named
    return [
        GuideRank(t.name, float(w), c, r, _reason(c, r, n))
        for t, w, c, r, n in zip(tracks, weight, clear, regular, count, strict=True)
    ]


def given_weights(tracks: Sequence[AnalysedTrack], given: Mapping[str, float] | None) -> Envelope | None:
    """The engineer's weights of the tracks (by name), with a sum of 1; None where they give none."""
    named = np.array([max(0.0, (given or {}).get(t.name, 0.0)) for t in tracks])
    return named / named.sum() if named.sum() > 0 else None


def _reason(clear: float, regular: float, attacks: int) -> str:
    if attacks < LEAST_ATTACKS:
        return _NO_ATTACKS
    sharp = "sharp attacks" if clear > _SHARP else "fair attacks" if clear > _FAIR else "soft attacks"
    even = "very even" if regular > _VERY_EVEN else "fairly even" if regular > _FAIRLY_EVEN else "free"
    return f"{attacks} {sharp}, {even}"


def fused_onset_envelope(tracks: Sequence[AnalysedTrack], ranks: Sequence[GuideRank]) -> Envelope:
    """All tracks' onset envelopes as one, about 0 to 1, 100 frames a second.

    Weights act on what sounds: where the best guide pauses, the envelope is levelled up by what the others play, so
    that another track takes over.
    """
    frames = max(len(t.evidence) for t in tracks)
    total = np.zeros(frames)
    for track, r in zip(tracks, ranks, strict=True):
        if r.weight > 0:
            total += r.weight * onset_envelope(track, frames)
    local = gaussian_filter1d(maximum_filter1d(total, _LOCAL_FRAMES), _LOCAL_BLUR)
    overall = np.percentile(total[total > 0], _OVERALL) if (total > 0).any() else 1.0
    return np.asarray(np.minimum(total / np.maximum(local, _LEAST_LOCAL * overall + 1e-12), _MOST))
