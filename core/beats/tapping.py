"""Tapping along: every tap becomes a beat, on the nearest believable attack, without the hand's delay."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

from core.beats.decoder import Leash, decode
from core.beats.laying import place
from core.beats.scene import Scene
from core.listening.spectrum import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.edits import EditError
from core.tempomap.splice import splice

Floats = NDArray[np.float64]

#: Hands and headphones together are early or late by no more than this, in seconds (common practice).
EARLY, LATE = -0.06, 0.18
#: A tap says where its beat is to about this, in seconds (Repp 2005 gives some 20 to 40 ms for tapping to music).
SPREAD = 0.04


def delay(scene: Scene, taps: Floats) -> float:
    """How late the taps come after what they follow, in seconds: the shift at which most attack lies under them."""
    wide = gaussian_filter1d(scene.curve, 1.5)
    shifts = np.arange(round(EARLY * FRAME_RATE), round(LATE * FRAME_RATE) + 1)
    at = np.round(taps * FRAME_RATE).astype(int)
    inside = [np.clip(at - s, 0, len(wide) - 1) for s in shifts]
    # hands keep time better than each tap tells: the sum over all taps, widened by their spread
    under = gaussian_filter1d(np.array([wide[i].mean() for i in inside]), SPREAD * FRAME_RATE / 2, mode="nearest")
    return float(shifts[int(np.argmax(under - 0.002 * np.abs(shifts - 4)))] / FRAME_RATE)


def beats_of(scene: Scene, taps: Sequence[float]) -> Floats:
    """Seconds of the beats that were tapped, one a tap. Raises :class:`EditError`."""
    t = np.unique(np.asarray(taps, dtype=np.float64))
    t = t[np.insert(np.diff(t) > 0.12, 0, True)] if len(t) else t
    if len(t) < 3:
        raise EditError("Tap at least three beats.")
    t = t - delay(scene, t)
    t = t[(t > 0) & (t < len(scene.curve) / FRAME_RATE)]
    if len(t) < 3:
        raise EditError("The taps lie outside the recording.")
    gaps = np.diff(t)
    lo = max(0, round((t[0] - 0.2) * FRAME_RATE))
    hi = min(len(scene.curve), round((t[-1] + 0.2) * FRAME_RATE) + 1)
    frames = np.arange(lo, hi) / FRAME_RATE
    nearest = np.abs(frames[:, None] - t[None, :]).min(axis=1)
    said = 3.0 * np.exp(-0.5 * (nearest / SPREAD) ** 2) - 1.0
    fast, slow = 60 / max(0.1, gaps.min() * 0.75), 60 / (gaps.max() * 1.3)
    chain, _ = decode(scene.pulse[lo:hi] + said, slow, fast, 60 / float(np.median(gaps)), Leash(change=0.4))
    if len(chain) != len(t):  # an uneven tapper: take them at their word
        chain = np.round(t * FRAME_RATE).astype(np.int64) - lo
    return place(scene, chain + lo)[0]


def lay_taps(scene: Scene, tempo_map: TempoMap | None, taps: Sequence[float]) -> TempoMap:
    """A map of the tapped beats; over an existing map they replace the stretch that they cover.

    Beats before and after the stretch stay to the bit and are renumbered where the count changes; pins inside the
    stretch stay, and the nearest tapped beats go there. Raises :class:`EditError`.
    """
    seconds = beats_of(scene, taps)
    return TempoMap.from_beats(seconds) if tempo_map is None else splice(tempo_map, seconds)
