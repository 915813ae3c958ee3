"""Several pieces of music in one recording, as of a concert or a rehearsal: each has its own tempo, level and meter, so
each is searched by itself. Between them the beats are counted on evenly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from core.listening.excerpt import SLOW
from core.listening.rates import FRAME_RATE
from core.tempomap import MeterChange, Meters, TempoMap
from core.tempomap.edits import pins_of, with_every_beat
from core.tracking.context import AnalysisContext
from core.tracking.hypothesis import agreement
from core.tracking.music import likeliest_music, music_log_odds, runs_of_music
from core.tracking.parameters import AGREES_ALONE, CLOSE_TO_MUSIC, FEWEST_BEATS, SHORTEST_PIECE
from core.tracking.results import Stretch, TrackingOptions

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
#: Intervals that differ by less are even, in seconds; so many beats of a pause at most lie in a piece's stretch.
_EVEN, _MOST_AROUND = 1e-6, 12


def find_pieces(
    context: AnalysisContext, frames: Ints, options: TrackingOptions
) -> tuple[list[Stretch], list[Stretch]]:
    """Where the pieces lie that a chain of beats (``frames``) goes through, one or more, each with a few beats of what
    is around it; and the rest, as far as a piece would have room there. What the engineer fixed between two pieces
    makes them one."""
    kept: list[slice] = []
    for piece in runs_of_music(frames, context.beat_activation[:, 0], context.onset_envelope, context.sound):
        if kept and _is_bridged(frames[kept[-1].stop - 1] / FRAME_RATE, frames[piece.start] / FRAME_RATE, options):
            piece = slice(kept.pop().start, piece.stop)
        kept.append(piece)
    middles = [int(frames[one.stop - 1] + frames[other.start]) // 2 for one, other in pairwise(kept)]
    found = []
    for piece, (start, stop) in zip(kept, pairwise([0, *middles, len(context.onset_envelope)]), strict=True):
        # before the chain and behind it may be music, too
        if piece.start > CLOSE_TO_MUSIC:
            start = max(start, int(frames[piece.start - CLOSE_TO_MUSIC]))
        if piece.stop + CLOSE_TO_MUSIC < len(frames):
            stop = min(stop, int(frames[piece.stop - 1 + CLOSE_TO_MUSIC]) + 1)
        found.append((start // SLOW * SLOW, stop))
    outside = [0, *(end for stretch in found for end in stretch), len(context.onset_envelope)]
    least = SHORTEST_PIECE * float(np.median(np.diff(frames)))
    first = 0 if options.start is None else round(options.start * FRAME_RATE)
    last = outside[-1] if options.end is None else round(options.end * FRAME_RATE)
    rest = ((max(a, first), min(b, last)) for a, b in zip(outside[::2], outside[1::2], strict=True))
    return found, [(a // SLOW * SLOW, b) for a, b in rest if b - a > least]


def music_in(alone: AnalysisContext, stretch: Stretch, frames: Ints) -> Stretch | None:
    """Where a piece lies in a stretch that was left out, as one that is only softer than the others is; None where
    there is no piece. ``alone``: the context of the stretch alone; ``frames``: the likeliest chain of beats in that."""
    activation = alone.beat_activation[:, 0]
    run = likeliest_music(music_log_odds(frames, activation, alone.onset_envelope, alone.sound))
    beats = frames[run]
    if len(beats) < SHORTEST_PIECE or agreement(activation, beats) < AGREES_ALONE:
        return None
    first, last = run.start - CLOSE_TO_MUSIC, run.stop - 1 + CLOSE_TO_MUSIC
    start = stretch[0] + (int(frames[first]) // SLOW * SLOW if first > 0 else 0)
    return start, stretch[0] + int(frames[last]) + 1 if last < len(frames) else stretch[1]


def _is_bridged(end: float, start: float, options: TrackingOptions) -> bool:
    """Whether a beat is fixed between two times (seconds), or a run of known beats goes on through them."""
    fixed = options.fixed
    goes_on = any(run[0] <= end and start <= run[-1] for run in options.known)
    return goes_on or bool(((fixed > end) & (fixed < start)).any())


def still_apart(pieces: Sequence[Stretch], tempo_map: TempoMap, length: float = np.inf) -> list[Stretch]:
    """The pieces that a search found, brought up to date: those behind frame ``length`` are gone, and two with a pin
    between them are one. Empty if fewer than two are left."""
    pins = tempo_map.seconds[pins_of(tempo_map)]
    kept: list[Stretch] = []
    for start, stop in pieces:
        if start >= length:
            continue
        if kept and ((pins > kept[-1][1] / FRAME_RATE) & (pins < start / FRAME_RATE)).any():
            start = kept.pop()[0]
        kept.append((start, int(min(stop, length))))
    return kept if len(kept) > 1 else []


def piece_of(pieces: Sequence[Stretch], tempo_map: TempoMap, beat: int) -> tuple[int, int] | None:
    """The first and the last felt beat of the piece that ``beat`` belongs to; None where the recording holds one piece
    only, or between two."""
    apart = still_apart(pieces, tempo_map)
    for part in parts_of(tempo_map, apart) if apart else []:
        if part and part.beats().index[0] <= beat <= part.beats().index[-1]:
            return int(part.beats().index[0]), int(part.beats().index[-1])
    return None


def of_piece(options: TrackingOptions, piece: Stretch) -> TrackingOptions:
    """The options for one piece alone, whose time 0 is at its start: with the beats that are fixed in it, and the range
    of tempos that is known of it."""
    start, end = piece[0] / FRAME_RATE, (piece[1] - 1) / FRAME_RATE
    known = [tempo for first, last, tempo in options.levels if start < (first + last) / 2 < end]
    runs = [run for run in options.known if start <= run[0] and run[-1] <= end]
    return replace(
        options,
        tempo=known[0] if known else options.tempo,
        levels=(),
        start=None if options.start is None else options.start - start,
        end=None if options.end is None else options.end - start,
        pins=[p - start for p in options.pins if start <= p <= end],
        known=[tuple(t - start for t in run) for run in runs],
        no_beats=[(a - start, b - start) for a, b in options.no_beats if b > start and a < end],
        refused=[(a - start, b - start) for a, b in options.refused if b > start and a < end],
    )


def parts_of(tempo_map: TempoMap, stretches: Sequence[Stretch]) -> list[TempoMap | None]:
    """The part of a map that belongs to each piece (``stretches``), its beats numbered as in the whole; without those
    that are only counted on between two pieces. None where there are too few."""
    full, seconds = with_every_beat(tempo_map), tempo_map.beats().seconds
    starts, ends = [float(seconds[0])], []
    for before, after in pairwise(stretches):
        last, first = _pause(seconds, before[1] / FRAME_RATE, after[0] / FRAME_RATE)
        ends.append(last)
        starts.append(first)
    ends.append(float(seconds[-1]))
    out: list[TempoMap | None] = []
    for start, end in zip(starts, ends, strict=True):
        inside = (full.seconds >= start) & (full.seconds <= end)
        enough = np.count_nonzero(inside) >= FEWEST_BEATS
        points = full.seconds[inside], full.quarters[inside], pins_of(full)[inside]
        out.append(full.with_points(*points) if enough else None)
    return out


def _pause(seconds: Floats, end: float, start: float) -> tuple[float, float]:
    """The last beat (seconds) of one piece and the first of the next, between which all are counted on evenly; the one
    ends about ``end``, the other starts about ``start``."""
    gaps = np.diff(seconds)
    middle = int(np.clip(np.searchsorted(seconds, (end + start) / 2) - 1, 0, len(gaps) - 1))
    around = _MOST_AROUND * gaps[middle]
    uneven = np.abs(gaps - gaps[middle]) > _EVEN
    uneven |= (seconds[:-1] < end - around) | (seconds[1:] > start + around)
    before, after = np.flatnonzero(uneven[:middle]), np.flatnonzero(uneven[middle:])
    last = int(before[-1]) + 1 if len(before) else 0
    first = middle + int(after[0]) if len(after) else len(seconds) - 1
    return float(seconds[last]), float(seconds[first])


def joined(maps: Sequence[TempoMap]) -> TempoMap:
    """One map of several, in order of time. Each keeps its beats and bar lines. Between them the last meter goes on in
    whole bars, so many that the tempo before goes on as nearly as it can."""
    out, *others = maps
    for other in others:
        out = _followed(out, other)
    return out


def _followed(one: TempoMap, other: TempoMap) -> TempoMap:
    last_bar, first_bar = int(one.meters.bars_at(one.quarters[-1])), int(other.meters.bars_at(other.quarters[0]))
    into_bar = float(other.quarters[0] - other.meters.bar_quarters(first_bar))
    # as few bars as there can be, and more
    opens = max(1, last_bar) + 1
    least = float(one.meters.bar_quarters(opens)) + into_bar - one.quarters[-1]
    expected = (other.seconds[0] - one.seconds[-1]) * np.median(np.diff(one.quarters) / np.diff(one.seconds))
    opens += max(0, round((expected - least) / one.meters.meter_at(opens).quarters))
    later = opens - first_bar
    changes = {c.bar: c.meter for c in one.meters.changes if c.bar < opens}
    changes |= {opens: other.meters.meter_at(1)} | {c.bar + later: c.meter for c in other.meters.changes}
    meters = Meters(tuple(MeterChange(bar, meter) for bar, meter in changes.items()))
    assert one.pins is not None and other.pins is not None
    return TempoMap(
        np.concatenate([one.seconds, other.seconds]),
        np.concatenate([one.quarters, other.quarters + meters.bar_quarters(1 + later)]),
        meters,
        np.concatenate([one.pins, other.pins]),
        one.lead_bpm,
        other.tail_bpm,
    )
