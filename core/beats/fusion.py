"""Choosing the guide: which players mark the beat most clearly, and what they all say together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, maximum_filter1d, uniform_filter1d

from core.listening import attacks
from core.listening.attacks import Attacks, strength_curve, tone_curve
from core.listening.spectrum import FRAME_RATE, Evidence

Curve = NDArray[np.float64]


@dataclass(frozen=True)
class Player:
    """One track as the tracker sees it."""

    name: str
    evidence: Evidence
    attacks: Attacks


@dataclass(frozen=True)
class GuideRank:
    """How well a track serves as guide. ``clearness`` and ``regularity`` are 0 to 1, ``weights`` sum to 1.

    ``reason`` says in words what the ears would say.
    """

    name: str
    weight: float
    clearness: float
    regularity: float
    reason: str


#: How much new partials say of a soft player.
NEW = 1.2


def punch(player: Player) -> float:
    """How strongly the player's strongest attacks rise over all bands at once."""
    return attacks.punch(player.evidence.flux)


def attack_curve(player: Player, frames: int) -> Curve:
    """How much a player starts something new at each frame, about 0 to 1.

    Clear players: their attacks at their placed times, as narrow bumps. The softer the player, the more the
    flux itself and new partials count instead, as bows and voices change pitch without an attack.
    """
    soft = float(np.clip(1 - punch(player) / 2, 0, 1))
    curve = np.zeros(frames)
    at = np.round(player.attacks.seconds * FRAME_RATE).astype(int)
    inside = (at >= 0) & (at < frames)
    np.maximum.at(curve, at[inside], player.attacks.strength[inside])
    curve = (1 - soft) * gaussian_filter1d(curve, 1.2) * 1.2 * np.sqrt(2 * np.pi)
    flux = strength_curve(player.evidence.flux)
    # the flux of a frame peaks about one frame after the attack it comes from
    n = min(frames, len(flux) - 1)
    curve[:n] += (0.25 + 0.35 * soft) * flux[1 : n + 1]
    if soft > 0:
        new = tone_curve(player.evidence.tone)[:frames]
        curve[: len(new)] += NEW * soft * new
    return curve


def periodicity(curve: Curve, longest: int = 250) -> Curve:
    """Autocorrelation of a curve without its slow trend, at lags 0 to ``longest`` frames, 1 at lag 0."""
    x = curve - uniform_filter1d(curve, 300)
    n = 1 << int(np.ceil(np.log2(len(x) + longest + 1)))
    spectrum = np.fft.rfft(x, n)
    ac = np.fft.irfft(spectrum * np.conj(spectrum), n)[: longest + 1]
    return ac / ac[0] if ac[0] > 0 else np.zeros(longest + 1)


def rank(players: Sequence[Player], given: Mapping[str, float] | None = None) -> list[GuideRank]:
    """Rate each track as guide, in the order given. Weights that the engineer gives take precedence.

    Clearness: how far the track's strongest attacks rise at once over all bands (a drum's do, a bow's do
    not). Regularity: how strongly the attacks repeat at some lag between 0.25 and 1.6 seconds.
    """
    clear, regular, count = [], [], []
    for p in players:
        curve = attack_curve(p, len(p.evidence))
        count.append(len(p.attacks))
        if len(p.attacks) < 4:
            clear.append(0.0)
            regular.append(0.0)
            continue
        clear.append(punch(p) / (punch(p) + 2))
        regular.append(float(np.clip(periodicity(curve)[25:160].max(), 0, 1)))
    raw = np.array(clear) ** 2 * (0.15 + np.array(regular))
    weight = raw / raw.sum() if raw.sum() > 0 else np.full(len(raw), 1 / max(1, len(raw)))
    if given:
        asked = np.array([max(0.0, given.get(p.name, 0.0)) for p in players])
        if asked.sum() > 0:
            weight = asked / asked.sum()
    return [
        GuideRank(p.name, float(w), c, r, _reason(c, r, n))
        for p, w, c, r, n in zip(players, weight, clear, regular, count, strict=True)
    ]


def _reason(clear: float, regular: float, attacks: int) -> str:
    if attacks < 4:
        return "hardly an attack"
    sharp = "sharp attacks" if clear > 0.5 else "fair attacks" if clear > 0.3 else "soft attacks"
    even = "very even" if regular > 0.5 else "fairly even" if regular > 0.25 else "free"
    return f"{attacks} {sharp}, {even}"


def fuse(players: Sequence[Player], ranks: Sequence[GuideRank]) -> Curve:
    """All players' attacks as one curve, about 0 to 1.

    Weights act on what sounds: where the best guide pauses, the curve is levelled up by what the others
    play, so that another player takes over.
    """
    frames = max(len(p.evidence) for p in players)
    total = np.zeros(frames)
    for p, r in zip(players, ranks, strict=True):
        if r.weight > 0:
            total += r.weight * attack_curve(p, frames)
    local = gaussian_filter1d(maximum_filter1d(total, 301), 150)
    overall = np.percentile(total[total > 0], 97) if (total > 0).any() else 1.0
    return np.minimum(total / np.maximum(local, 0.15 * overall + 1e-12), 1.5)
