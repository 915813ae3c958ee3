"""Beats beyond the ends of a map: detected onward from its last ones, or backward from its first ones."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.edits import pins_of, with_every_beat
from core.tempomap.pulses import has_pulses
from core.tracking.candidate import place_beats
from core.tracking.context import AnalysisContext
from core.tracking.redetect import snap_new_beats
from core.tracking.surroundings import BESIDE, TEMPO_RANGE, neighbouring_beats, search_between
from core.tracking.tempo_freedom import decode_freely

Floats = NDArray[np.float64]

#: Intervals whose median is the tempo at an end.
_LOCAL = 8
#: Detected beats may begin so much of a beat before the wanted place.
_EARLIER = 0.5
#: So many beats that differ by less than this (seconds) are a machine's, or were made even: so are those beyond them.
_MACHINE, _EXACT = 16, 0.001


def extended(context: AnalysisContext, even: TempoMap, known: TempoMap) -> TempoMap:
    """A map that was made longer, with its new beats detected.

    ``even``: the map with new beats at the tempo of its ends (:func:`core.tempomap.splice.between`); ``known``: the
    map before. What both have stays to the bit. Where meters are uneven, new beats go to the attacks near them.
    """
    before, after = known.beats(), even.beats()
    if has_pulses(even):
        return snap_new_beats(context, even, before.seconds)
    full = with_every_beat(even)
    index, seconds = full.meters.beat_of_quarters(full.quarters), full.seconds
    first, last = int(before.index[0]), int(before.index[-1])
    kept = (index > first - 1e-6) & (index < last + 1e-6)
    ahead = beats_before(context, before.seconds, float(after.seconds[0])) if after.index[0] < first else np.zeros(0)
    behind = beats_after(context, before.seconds, float(after.seconds[-1])) if after.index[-1] > last else np.zeros(0)
    new_index = np.concatenate(
        [first - np.arange(len(ahead), 0, -1), index[kept], last + np.arange(1, len(behind) + 1)]
    )
    return full.with_points(
        np.concatenate([ahead, seconds[kept], behind]),
        full.meters.quarters_of_beat(new_index),
        np.concatenate([np.zeros(len(ahead), bool), pins_of(full)[kept], np.zeros(len(behind), bool)]),
    )


def beats_after(context: AnalysisContext, beats: Floats, until: float) -> Floats:
    """Beats after the last of ``beats`` (seconds, rising) up to the one nearest to ``until``: detected as far as any
    are to be found, then at an even tempo."""
    if _is_exact(beats[-_MACHINE - 1 :]):
        return _even(beats, until)
    frames = np.round(beats * FRAME_RATE).astype(np.int64)
    found = _detected(context.decoding_curve, frames, until * FRAME_RATE)
    placed = place_beats(context, np.append(frames, found), beats)[0][len(frames) :]
    placed = placed[placed > beats[-1]]
    return np.concatenate([placed, _even(np.concatenate([beats, placed]), until)])


def beats_before(context: AnalysisContext, beats: Floats, since: float) -> Floats:
    """Beats before the first of ``beats``, from the one nearest to ``since`` on; as :func:`beats_after`, backward."""
    if _is_exact(beats[: _MACHINE + 1]):
        return _back(beats, since)
    frames = np.round(beats * FRAME_RATE).astype(np.int64)
    missing = max(0, int(frames[-1]) + 1 - len(context.decoding_curve))  # a map may go on after the recording
    turned = np.append(context.decoding_curve, np.zeros(missing))[frames[-1] :: -1]
    found = frames[-1] - _detected(turned, (frames[-1] - frames)[::-1], frames[-1] - since * FRAME_RATE)[::-1]
    placed = place_beats(context, np.append(found, frames), beats)[0][: len(found)]
    placed = placed[placed < beats[0]]
    return np.concatenate([_back(np.concatenate([placed, beats]), since), placed])


def _is_exact(beats: Floats) -> bool:
    return len(beats) > _MACHINE and float(np.ptp(np.diff(beats))) < _EXACT


def _detected(curve: Floats, beats: NDArray[np.int64], until: float) -> NDArray[np.int64]:
    """The frames of the chain that goes on from ``beats`` to about the frame ``until``."""
    interval = float(np.median(np.diff(beats)[-_LOCAL:]))
    edge, last = int(beats[-1]), min(len(curve) - 1, int(until + _EARLIER * interval))
    if last <= edge:
        return np.zeros(0, dtype=np.int64)
    bpm = 60 * FRAME_RATE / interval

    def search(heard: Floats, known: NDArray[np.int64]) -> NDArray[np.int64]:
        return decode_freely(heard, bpm / TEMPO_RANGE, bpm * TEMPO_RANGE, bpm, pins=known, is_part=True)[0]

    beside = neighbouring_beats(beats - edge, last - edge, interval, BESIDE)
    chain = search_between(search, curve[edge : last + 1], np.zeros(1, dtype=np.int64), *beside)
    return np.asarray(chain[chain > 0] + edge)


def _even(beats: Floats, until: float) -> Floats:
    """Beats at the tempo of the last ones, up to the one nearest to ``until``."""
    interval = float(np.median(np.diff(beats[-_LOCAL - 1 :])))
    return np.asarray(beats[-1] + interval * np.arange(1, max(0, round((until - beats[-1]) / interval)) + 1))


def _back(beats: Floats, since: float) -> Floats:
    """The same before the first of ``beats``, from the one nearest to ``since`` on; none before the recording."""
    more = -_even(-beats[::-1], -since)[::-1]
    return np.asarray(more[more >= 0])
