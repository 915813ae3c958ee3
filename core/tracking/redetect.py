"""Detecting beats again: a stretch between two fixed beats, the surroundings of a moved beat, beats that are new."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.edits import EditError, move_beat, pins_of, with_every_beat
from core.tempomap.pulses import has_pulses, pulsed, same_place
from core.tracking.candidate import place_beats
from core.tracking.context import AnalysisContext, decoding_curve
from core.tracking.decoder import NEVER, decode_counted
from core.tracking.parameters import (
    ACTIVATION_SHARE,
    ACTIVATION_SHARE_COUNTED,
    ANOTHER_LEVEL,
    COUNTED,
    COUNTED_AMONG,
    STRICT,
)
from core.tracking.placement import place_on_attacks
from core.tracking.semi_markov import Curve, Ints
from core.tracking.surroundings import BESIDE, TEMPO_RANGE, neighbouring_beats, search_between
from core.tracking.tempo_freedom import decode_freely

#: Seconds: beats that last longer are not detected but stay even: hardly anything is counted so slowly, and the search
#: would take many seconds.
LONGEST_DETECTED = 2.5
#: Beats on either side of a moved one that are detected again where no pin is nearer.
AROUND = 12
#: So many beats after its start and before its end a chain that is half a beat off, within this share of a beat, has
#: gone over to the off-beats.
_SOON, _HALF_WITHIN = 4, 0.2
#: Where the engineer has counted, two tell as much as eight (fitting set).
_BESIDE_COUNTED = 2
#: Chosen there, too: what a held beat is worth (full attacks) where up to so many beats are counted in a stretch that
#: is longer than the tempo around says. One bar is hardly ever at another level by itself, but often held.
_RATHER_HELD, _ONE_BAR = 0.7, 4
#: How far from even beats a beat may then lie, in beats.
_NEAR_EVEN = 0.3
#: How far the ends of a found chain may lie from the fixed beats, in seconds.
_END_TOLERANCE = 0.02
#: Support from which on a new beat goes to its attack, and the least time between beats, in seconds.
_LEAST_SUPPORT, _CLOSEST = 0.2, 0.02


def redetect(
    context: AnalysisContext,
    tempo_map: TempoMap,
    first: int,
    last: int,
    beats: int | None = None,
    held: Sequence[tuple[float, float]] = (),
) -> TempoMap:
    """Detect the beats between felt beats ``first`` and ``last`` again; both stay where they are, and so does every
    beat outside, to the bit. Pins inside are kept.

    ``beats``: exactly that many from ``first`` to ``last``; otherwise the number may change, and the beats and meters
    after the stretch are renumbered. ``held``: stretches (seconds) with no beat inside. Uneven meters are detected on
    their pulse. Raises :class:`core.tempomap.edits.EditError`.
    """
    if has_pulses(tempo_map):
        even = pulsed(tempo_map)
        begin, end = (round(same_place(x, tempo_map, even)) for x in (first, last))
        found = redetect(
            context.by_attacks(), with_every_beat(even), begin, end, None if beats is None else end - begin, held
        )
        return replace(found, meters=tempo_map.meters)
    index = np.round(tempo_map.meters.beat_of_quarters(tempo_map.quarters)).astype(int)
    if not index[0] <= first < last - 1 or last > index[-1]:
        raise EditError("Choose at least two beats inside the mapped music to detect again.")
    a, b = float(tempo_map.seconds_of_beat(first)), float(tempo_map.seconds_of_beat(last))
    pins = tempo_map.pins
    assert pins is not None
    inside = (tempo_map.seconds > a + 1e-9) & (tempo_map.seconds < b - 1e-9)
    fixed = np.concatenate([[a], tempo_map.seconds[inside & pins], [b]])
    lo = max(0, round(a * FRAME_RATE))
    hi = min(len(context.decoding_curve) - 1, round(b * FRAME_RATE))
    frames_fixed = np.round(fixed * FRAME_RATE).astype(np.int64) - lo
    share = ACTIVATION_SHARE if beats is None else ACTIVATION_SHARE_COUNTED
    curve = decoding_curve(context.onset_envelope[lo : hi + 1], context.beat_activation[lo : hi + 1], share)
    for pause in held:
        opens, closes = (max(0, round(t * FRAME_RATE) - lo) for t in pause)
        curve[opens + 1 : closes] = NEVER
    frames_fixed = frames_fixed[frames_fixed < len(curve)]
    local, around = _local_bpm(tempo_map, first, last), _frames(tempo_map) - lo
    if beats is None:
        chain = _found(curve, frames_fixed, local, around) + lo
    else:
        chain = _counted(curve, beats, frames_fixed, 60 * FRAME_RATE / local, around) + lo
    if (
        len(chain) < 2
        or abs(chain[0] / FRAME_RATE - a) > _END_TOLERANCE
        or abs(chain[-1] / FRAME_RATE - b) > _END_TOLERANCE
    ):
        raise EditError("No chain of beats fits between these two. Set a pin between them and try again.")
    seconds, _ = place_beats(context, chain, fixed)
    seconds[0], seconds[-1] = a, b
    if (np.diff(seconds) <= 0).any():
        raise EditError("The beats found here would overlap. Set a pin between them and try again.")
    shift = len(seconds) - 1 - (last - first)
    before, after = tempo_map.seconds <= a + 1e-9, tempo_map.seconds >= b - 1e-9
    counted = tempo_map.meters.beat_of_quarters(tempo_map.quarters)
    new_index = np.concatenate([counted[before], first + np.arange(1, len(seconds) - 1), counted[after] + shift])
    new_seconds = np.concatenate([tempo_map.seconds[before], seconds[1:-1], tempo_map.seconds[after]])
    new_pins = np.concatenate([pins[before], np.isin(seconds[1:-1], fixed), pins[after]])
    meters = tempo_map.meters.moved(last, shift)
    return replace(tempo_map, meters=meters).with_points(new_seconds, meters.quarters_of_beat(new_index), new_pins)


def _frames(tempo_map: TempoMap) -> Ints:
    """The felt beats of a map."""
    return np.round(tempo_map.beats().seconds * FRAME_RATE).astype(np.int64)


def _found(curve: Curve, fixed: Ints, local: float, around: Ints) -> Ints:
    """The chain through the curve of a stretch. ``fixed``: frames that have to be beats, the ends among them;
    ``local``: tempo around, beats a minute; ``around``: beats of the map, in frames from the stretch's first."""

    def search(heard: Curve, known: Ints) -> Ints:
        return decode_freely(heard, local / TEMPO_RANGE, local * TEMPO_RANGE, local, pins=known, is_part=True)[0]

    last = len(curve) - 1
    beside = neighbouring_beats(around, last, 60 * FRAME_RATE / local, BESIDE)
    chain = search_between(search, curve, fixed, *beside)
    if _leaves_its_ends(chain):
        beats = max(1, round(last / FRAME_RATE * local / 60))
        return decode_counted(_around_even(curve, beats), beats, last / beats, pins=fixed)[0]
    return chain


def _counted(curve: Curve, beats: int, fixed: Ints, local: float, around: Ints) -> Ints:
    """The chain of so many beats through the curve of a stretch. ``local``: frames between beats around; the rest as of
    :func:`_found`."""
    last = len(curve) - 1
    mean = last / beats

    def search(heard: Curve, known: Ints) -> Ints:
        return decode_counted(heard, beats + len(known) - len(fixed), local, COUNTED_AMONG, known)[0]

    if 1 / ANOTHER_LEVEL < mean / local < ANOTHER_LEVEL:
        chain = search_between(search, curve, fixed, *neighbouring_beats(around, last, local, _BESIDE_COUNTED))
        if len(chain):
            return chain
    # either the map around counts at another level, or one beat is held and the others keep the tempo around
    steady = decode_counted(curve, beats, mean, STRICT, fixed)
    as_around = decode_counted(curve, beats, local, COUNTED, fixed)
    lead = _RATHER_HELD if beats <= _ONE_BAR and mean > local else 0.0
    return (as_around if as_around[1] + lead > steady[1] else steady)[0]


def _leaves_its_ends(chain: Ints) -> bool:
    """Whether a chain is about half a beat off its own tempo some beats after its start and before its end: it has gone
    over to the off-beats between two beats that are right."""
    if len(chain) < 3 * _SOON:
        return False
    usual = float(np.median(np.diff(chain)))
    away = np.array([chain[_SOON] - chain[0], chain[-1] - chain[-1 - _SOON]]) / usual - _SOON
    return bool((np.abs(np.abs(away) - 0.5) < _HALF_WITHIN).all())


def _around_even(curve: Curve, beats: int) -> Curve:
    """The curve near even beats only, so that off-beats are worth nothing."""
    at = np.arange(len(curve)) * beats / max(1, len(curve) - 1)
    return np.where(np.abs(at - np.round(at)) < _NEAR_EVEN, curve, 0.0)


def _local_bpm(tempo_map: TempoMap, first: int, last: int) -> float:
    """Felt tempo around the stretch, from the beats outside it where there are some."""
    beats = tempo_map.beats()
    gaps = np.diff(beats.seconds)
    k = beats.index[:-1]
    near = gaps[((k >= first - 8) & (k < first)) | ((k >= last) & (k < last + 8))]
    return float(60 / np.median(near if len(near) else gaps))


def move_and_redetect(context: AnalysisContext, tempo_map: TempoMap, beat: int, to: float) -> TempoMap:
    """Pin ``beat`` at ``to`` (seconds) and detect the beats on both sides again, up to the next pins, with as many
    beats as before. Raises :class:`core.tempomap.edits.EditError`."""
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    pinned = index[pins_of(full)]
    first = max([beat - AROUND, int(np.ceil(index[0])), *np.round(pinned[pinned < beat - 0.5]).astype(int)])
    last = min([beat + AROUND, int(np.floor(index[-1])), *np.round(pinned[pinned > beat + 0.5]).astype(int)])
    # unpinned neighbours would stand in the way of a far move; they are detected again anyway
    keep = (index <= first + 1e-6) | (index >= last - 1e-6) | (np.abs(index - beat) < 1e-6)
    moved = move_beat(full.with_points(full.seconds[keep], full.quarters[keep], pins_of(full)[keep]), beat, to)
    for a, b in ((beat, last), (first, beat)):
        if b - a >= 2:
            moved = redetect(context, moved, a, b, b - a)
    return with_every_beat(moved)


def snap_new_beats(context: AnalysisContext, tempo_map: TempoMap, known: NDArray[Any]) -> TempoMap:
    """Move beats that were only calculated (not among the times ``known``, seconds) to the attacks near them, where
    there are some; the others stay to the bit."""
    full = with_every_beat(tempo_map)
    placed = place_on_attacks(context, full.seconds)
    new = (
        (np.abs(full.seconds[:, None] - known[None, :]).min(axis=1) > 1e-6)
        & (placed.support > _LEAST_SUPPORT)
        & ~pins_of(full)
    )
    seconds = np.where(new, placed.seconds, full.seconds)
    return full.with_points(seconds, full.quarters, pins_of(full)) if (np.diff(seconds) > _CLOSEST).all() else full
