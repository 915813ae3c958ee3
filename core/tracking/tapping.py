"""Tapping along: every tap becomes a beat, on the nearest believable attack, without the delay of the hand."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

from core.listening.rates import FRAME_RATE
from core.tempomap import Meter, Meters, TempoMap
from core.tempomap.edits import EditError, pins_of, with_every_beat
from core.tempomap.limits import CLOSEST
from core.tempomap.splice import bars_between, splice
from core.tracking.candidate import place_beats
from core.tracking.context import AnalysisContext
from core.tracking.decoder import decode
from core.tracking.parameters import TransitionCosts
from core.tracking.redetect import LONGEST_DETECTED, redetect

Floats = NDArray[np.float64]

#: Hands and headphones together are early or late by no more than this, in seconds (common practice).
EARLY, LATE = -0.06, 0.18
#: A tap says where its beat is to about this, in seconds (Repp 2005 gives some 20 to 40 ms for tapping to music).
SPREAD = 0.04
#: The tempo may move freely from tap to tap, as the taps themselves hold it.
_COSTS = TransitionCosts(change=0.4)
#: Two taps closer than this are one, in seconds.
_SAME_TAP = 0.12
#: Worth of a frame under a tap against one far from any, in units of a full attack.
_TAP_HEIGHT, _TAP_FLOOR = 3.0, -1.0
#: Least taps for a map.
_FEWEST = 3
#: Frames by which the onset envelope is widened under taps.
_WIDENED = 1.5
#: Where shifts are as good, the one nearest to this many frames is taken, by so little a frame.
_USUAL_LATE, _NEARER = 4, 0.002
#: Seconds before the first tap and after the last in which their beats are looked for.
_MARGIN = 0.2
#: The quickest and the slowest beats that are looked for, as shares of the shortest and the longest gap between taps;
#: no gap is taken for shorter than so many seconds.
_SHORTER, _LONGER, _SHORTEST_GAP = 0.75, 1.3, 0.1


def delay(context: AnalysisContext, taps: Floats) -> float:
    """How late taps (seconds) come after what they follow, in seconds: the shift at which the onset envelope under them
    is highest."""
    wide = gaussian_filter1d(context.onset_envelope, _WIDENED)
    shifts = np.arange(round(EARLY * FRAME_RATE), round(LATE * FRAME_RATE) + 1)
    at = np.round(taps * FRAME_RATE).astype(int)
    inside = [np.clip(at - s, 0, len(wide) - 1) for s in shifts]
    # hands keep time better than each tap tells: the sum over all taps, widened by their spread
    under = gaussian_filter1d(np.array([wide[i].mean() for i in inside]), SPREAD * FRAME_RATE / 2, mode="nearest")
    return float(shifts[int(np.argmax(under - _NEARER * np.abs(shifts - _USUAL_LATE)))] / FRAME_RATE)


def beats_of(context: AnalysisContext, taps: Sequence[float]) -> Floats:
    """Seconds of the beats that were tapped, one a tap. Raises :class:`EditError`."""
    t = np.unique(np.asarray(taps, dtype=np.float64))
    t = t[np.insert(np.diff(t) > _SAME_TAP, 0, True)] if len(t) else t
    if len(t) < _FEWEST:
        raise EditError("Tap at least three beats.")
    t = t - delay(context, t)
    t = t[(t > 0) & (t < len(context.onset_envelope) / FRAME_RATE)]
    if len(t) < _FEWEST:
        raise EditError("The taps lie outside the recording.")
    gaps = np.diff(t)
    lo = max(0, round((t[0] - _MARGIN) * FRAME_RATE))
    hi = min(len(context.onset_envelope), round((t[-1] + _MARGIN) * FRAME_RATE) + 1)
    frames = np.arange(lo, hi) / FRAME_RATE
    right = np.clip(np.searchsorted(t, frames), 1, len(t) - 1)
    nearest = np.minimum(np.abs(frames - t[right - 1]), np.abs(t[right] - frames))
    tapped = _TAP_HEIGHT * np.exp(-0.5 * (nearest / SPREAD) ** 2) + _TAP_FLOOR
    fast, slow = 60 / max(_SHORTEST_GAP, gaps.min() * _SHORTER), 60 / (gaps.max() * _LONGER)
    chain, _ = decode(context.decoding_curve[lo:hi] + tapped, slow, fast, 60 / float(np.median(gaps)), _COSTS)
    if len(chain) != len(t):  # uneven tapping: every tap is a beat
        chain = np.round(t * FRAME_RATE).astype(np.int64) - lo
    return place_beats(context, chain + lo)[0]


def map_from_taps(context: AnalysisContext, tempo_map: TempoMap | None, taps: Sequence[float]) -> TempoMap:
    """A map of the tapped beats; over an existing map they replace the stretch that they cover.

    Beats before and after the stretch stay to the bit and are renumbered where the count changes; pins inside the
    stretch stay, and the nearest tapped beats go there. Raises :class:`EditError`.
    """
    seconds = beats_of(context, taps)
    return TempoMap.from_beats(seconds) if tempo_map is None else splice(tempo_map, seconds)


def map_from_tapped_bars(
    context: AnalysisContext, tempo_map: TempoMap | None, taps: Sequence[float], meter: Meter
) -> TempoMap:
    """A map in which every tap opens a bar of ``meter``; the last bar is as long as the one before it.

    The beats between are detected. Over an existing map it replaces the stretch that the bars cover. Raises
    :class:`EditError`.
    """
    t = np.unique(np.asarray(taps, dtype=np.float64))
    if len(t) < 2:
        raise EditError("Tap at least two bar lines.")
    t = t - delay(context, t)
    t = t[(t > 0) & (t < len(context.onset_envelope) / FRAME_RATE)]
    if len(t) < 2:
        raise EditError("The taps lie outside the recording.")
    t = place_beats(context, np.round(t * FRAME_RATE).astype(np.int64))[0]
    end = min(float(2 * t[-1] - t[-2]), len(context.onset_envelope) / FRAME_RATE)
    bounds = np.append(t, end) if end - t[-1] > 0.5 * (t[-1] - t[-2]) else t
    shares = np.concatenate([k + np.arange(meter.beats) / meter.beats for k in range(len(bounds) - 1)])
    beats = np.append(np.interp(shares, np.arange(len(bounds)), bounds), bounds[-1])
    if (np.diff(beats) < CLOSEST).any():
        raise EditError("These taps are too close for bars of that meter.")
    made = TempoMap.from_beats(beats, 0, Meters.of((1, meter.felt)))
    for k in range(len(bounds) - 1) if meter.beats > 1 else ():
        if bounds[k + 1] - bounds[k] >= LONGEST_DETECTED * meter.beats:
            continue
        with suppress(EditError):
            made = redetect(context, made, k * meter.beats, (k + 1) * meter.beats, meter.beats)
    if tempo_map is None:
        return made
    merged = with_every_beat(bars_between(tempo_map, float(bounds[0]), float(bounds[-1]), len(bounds) - 1, meter))
    own = made.beats().seconds
    first = round(float(merged.beat_index_at(bounds[0])))
    index = merged.meters.beat_of_quarters(merged.quarters)
    place = np.round(index).astype(int) - first
    inside = (place > 0) & (place < len(own) - 1) & (np.abs(index - np.round(index)) < 1e-6) & ~pins_of(merged)
    seconds = np.where(inside, own[np.clip(place, 0, len(own) - 1)], merged.seconds)
    lines = (place >= 0) & (place <= len(own) - 1) & (place % meter.beats == 0)
    seconds = np.where(lines & ~pins_of(merged), own[np.clip(place, 0, len(own) - 1)], seconds)
    if (np.diff(seconds) <= 0).any():
        raise EditError("The pins in this stretch leave no room for these bars. Unpin what should give way.")
    return merged.with_points(seconds, merged.quarters, pins_of(merged))
