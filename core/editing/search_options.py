"""What a new search is told of what the engineer said and did: beats that are fixed, runs of beats that are known,
stretches without beats, beats that were taken away, and the level and the downbeat that the whole take was put on."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from core.document import BarsHere, Document, Right, WithoutBeats
from core.document.statements import holds
from core.editing.obeying import fixed_times, obeying
from core.editing.recording import Recording
from core.tempomap import TempoMap
from core.tempomap.bar_lines import with_lines_moved
from core.tempomap.edits import EditError, pins_of, shift_downbeat
from core.tempomap.pulses import has_pulses
from core.tracking.doubts.map_view import runs
from core.tracking.parameters import ANOTHER_LEVEL, USUAL_RANGE
from core.tracking.pieces import parts_of, still_apart
from core.tracking.results import Stretch, TrackingOptions

Floats = NDArray[np.float64]

#: The whole recording, as a stretch.
_ALL = (-np.inf, np.inf)
#: Ranges are given in quarters: a dotted beat is so many.
_DOTTED = 1.5
#: Fewest beats in a row that say what a beat is, and fewest in all from which the tempo follows.
_FEWEST, _FEWEST_IN_ALL = 3, 5
#: Maps whose usual intervals differ by more than this factor are counted at different levels.
_ANOTHER_COUNT = 1.25
#: What lies farther than this share of a beat from all beats is none; so far around it nothing is a beat either.
_OFF, _BESIDE = 0.25, 0.2
#: This share of all downbeats is nearly all.
_NEARLY_ALL = 0.7
#: A beat of one map is that of another within so many seconds.
_SAME_BEAT = 0.07
#: The share of intervals at either end that may be holds and slips.
_STRAYS = 0.1


def search_options(
    options: TrackingOptions,
    document: Document,
    searches: Sequence[tuple[TempoMap, TempoMap]] = (),
    pieces: Sequence[Stretch] = (),
) -> TrackingOptions:
    """The session's options with all that was said since, for a search whose result obeys it.

    ``searches``: the map that each earlier search found, and what had become of it before the next, the latest last;
    ``pieces``: those that the last one found, each of which has a tempo of its own.
    Where the engineer has counted the whole take at another level, the new search keeps it, and beats that were found
    and taken away do not come back. A range of tempos or a meter that the engineer named goes first.
    """
    tempo_map = document.map
    pins = tempo_map.seconds[pins_of(tempo_map)].tolist() if tempo_map else []
    silent = [(s.start, s.end) for s in document.statements if isinstance(s, WithoutBeats)]
    options = replace(options, pins=sorted({*pins, *fixed_times(document)}), no_beats=silent)
    if tempo_map is None or not _is_plain(tempo_map) or options.meter not in (None, tempo_map.meters.meter_at(1)):
        return options
    searches = [pair for pair in searches if all(_is_plain(m) for m in pair)]
    known = known_beats(document)
    named, is_dotted = options.tempo, tempo_map.meters.meter_at(1).groups[0] == 3
    stretches = _stretches(pieces, tempo_map)
    ranges = [_tempo(named, _known_intervals(tempo_map, known, searches, s), is_dotted) for s in stretches]
    if len(stretches) > 1:
        options = replace(options, levels=[(*s, tempo) for s, tempo in zip(stretches, ranges, strict=True)])
    else:
        options = replace(options, tempo=ranges[0])
    # who asks for another tempo than the map's wants its beats found anew
    is_meant = _holds(named, np.diff(tempo_map.beats().seconds), is_dotted)
    return replace(options, known=known, refused=_refused(tempo_map, searches) if is_meant else ())


def _known_intervals(
    tempo_map: TempoMap,
    known: Sequence[tuple[float, ...]],
    searches: Sequence[tuple[TempoMap, TempoMap]],
    stretch: tuple[float, float],
) -> Floats:
    """The intervals in a stretch (seconds) that are known to be those of beats. Few of them say nothing, but all do
    where the engineer brought the stretch to its level."""
    runs_there = [run for run in known if stretch[0] <= run[0] and run[-1] <= stretch[1]]
    intervals = np.concatenate([np.diff(run) for run in runs_there]) if runs_there else np.zeros(0)
    if len(intervals) >= _FEWEST_IN_ALL - 1:
        return intervals
    return _intervals(tempo_map, stretch) if _is_recounted(tempo_map, searches, stretch) else np.zeros(0)


def _intervals(tempo_map: TempoMap, stretch: tuple[float, float]) -> Floats:
    """Those between a map's beats in a stretch."""
    seconds = tempo_map.beats().seconds
    return np.diff(seconds[(seconds >= stretch[0]) & (seconds <= stretch[1])])


def _is_plain(tempo_map: TempoMap) -> bool:
    """Whether a map has beats enough to tell its level, all felt alike."""
    return not has_pulses(tempo_map) and len(tempo_map.beats()) > _FEWEST


def known_beats(document: Document) -> list[tuple[float, ...]]:
    """Runs of beats (seconds) of which the engineer said that they are the beats, with none between: in locked
    stretches, in stretches of so many bars, and where neighbours are pinned."""
    tempo_map = document.map
    assert tempo_map is not None
    rows = [s.seconds for s in document.statements if isinstance(s, Right)]
    beats = tempo_map.beats().seconds
    for s in document.statements:
        if isinstance(s, BarsHere) and holds(s, tempo_map):
            rows.append(tuple(beats[(beats > s.start - 1e-6) & (beats < s.end + 1e-6)].tolist()))
    pinned = np.isin(beats, tempo_map.seconds[pins_of(tempo_map)])
    rows += [tuple(beats[first : last + 1].tolist()) for first, last in runs(pinned)]
    return [row for row in rows if len(row) >= _FEWEST]


def _is_recounted(
    tempo_map: TempoMap, searches: Sequence[tuple[TempoMap, TempoMap]], stretch: tuple[float, float]
) -> bool:
    """Whether a stretch of the map is counted at a level to which the engineer brought what had been found."""
    changed = (became for found, became in reversed(searches) if not _same_level(found, became, stretch))
    last = next(changed, None)
    return last is not None and _same_level(last, tempo_map, stretch)


def _same_level(one: TempoMap, other: TempoMap, stretch: tuple[float, float]) -> bool:
    own, others = _intervals(one, stretch), _intervals(other, stretch)
    if not len(own) or not len(others):
        return True
    return bool(abs(np.log(np.median(own) / np.median(others))) < np.log(_ANOTHER_COUNT))


def _refused(tempo_map: TempoMap, searches: Sequence[tuple[TempoMap, TempoMap]]) -> list[tuple[float, float]]:
    """Around each beat (seconds) that a search had found, and that edits left between the beats of the map."""
    out: list[tuple[float, float]] = []
    for found, became in searches:
        seconds = found.beats().seconds
        beside = _BESIDE * np.gradient(seconds)
        gone = _lie_between(seconds, became) & _lie_between(seconds, tempo_map)
        out += zip((seconds - beside)[gone].tolist(), (seconds + beside)[gone].tolist(), strict=True)
    return out


def _lie_between(seconds: Floats, tempo_map: TempoMap) -> NDArray[np.bool_]:
    """Which times lie between the beats of a map, inside the music."""
    beats = tempo_map.beats().seconds
    share = tempo_map.beat_index_at(seconds) % 1
    inside = (seconds > beats[0]) & (seconds < beats[-1])
    return np.asarray(inside & (share > _OFF) & (share < 1 - _OFF))


def as_said(
    recording: Recording,
    found: TempoMap,
    document: Document,
    searches: Sequence[tuple[TempoMap, TempoMap]],
    pieces: Sequence[Stretch] = (),
) -> TempoMap:
    """What a new search found, with downbeats moved as in earlier ones, and every pin and statement obeyed.

    ``document``: the engineer's, as it was before; ``searches`` as for :func:`search_options`; ``pieces``: those that
    the new search found. Raises :class:`core.tempomap.edits.EditError` where what was said contradicts itself.
    """
    pins = document.map.seconds[pins_of(document.map)].tolist() if document.map else []
    found = with_kept_downbeats(found, document.map, searches, pieces)
    found = found.with_points(found.seconds, found.quarters, np.isin(found.seconds, pins))
    return obeying(recording, Document(found, document.statements), pins, pieces)


def with_kept_downbeats(
    found: TempoMap,
    tempo_map: TempoMap | None,
    searches: Sequence[tuple[TempoMap, TempoMap]],
    pieces: Sequence[Stretch] = (),
) -> TempoMap:
    """What a new search found, with all downbeats moved as the engineer has moved those of an earlier one; of several
    pieces in each by itself.

    ``tempo_map``: the engineer's map now; ``searches`` and ``pieces`` as for :func:`as_said`.
    """
    if tempo_map is None or not (_is_plain(found) and _is_plain(tempo_map)):
        return found
    for stretch in _stretches(pieces, tempo_map):
        for earlier, became in reversed(searches):
            if _is_plain(earlier) and _is_plain(became) and _downbeats_moved(earlier, became, stretch):
                by = _downbeats_moved(found, tempo_map, stretch)
                if by and _downbeats_moved(earlier, tempo_map, stretch):
                    found = _shifted(found, by, stretch)
                break
    return found


def _stretches(pieces: Sequence[Stretch], tempo_map: TempoMap) -> list[tuple[float, float]]:
    """Where the beats of several pieces lie, in seconds; else the whole recording."""
    parts = [part for part in parts_of(tempo_map, still_apart(pieces, tempo_map)) if part]
    if len(parts) < 2:
        return [_ALL]
    return [(float(p.seconds[0]) - _SAME_BEAT, float(p.seconds[-1]) + _SAME_BEAT) for p in parts]


def _shifted(found: TempoMap, by: int, stretch: tuple[float, float]) -> TempoMap:
    """All downbeats in a stretch ``by`` beats later, or the rest of a bar earlier where that is nearer and the music
    allows it."""
    beats = found.beats()
    there = beats.index[(beats.seconds >= stretch[0]) & (beats.seconds <= stretch[1])]
    count = found.meters.meter_at(max(1, int(beats.bar[beats.index == there[len(there) // 2]][0]))).beats
    earlier = by - count if by > count / 2 else by
    if stretch != _ALL:
        return with_lines_moved(found, earlier, int(there[0]), int(there[-1]))
    with suppress(EditError):
        return shift_downbeat(found, earlier)
    return shift_downbeat(found, by)


def _downbeats_moved(found: TempoMap, now: TempoMap, stretch: tuple[float, float]) -> int:
    """By how many beats nearly all downbeats of one map lie after those of another in a stretch; 0 where they do not,
    or where the beats are others."""
    then, beats = found.beats(), now.beats()
    lines = beats.seconds[(beats.beat == 1) & (beats.seconds >= stretch[0]) & (beats.seconds <= stretch[1])]
    nearest = np.clip(np.round(found.beat_index_at(lines)).astype(int) - int(then.index[0]), 0, len(then) - 1)
    same = np.abs(then.seconds[nearest] - lines) < _SAME_BEAT
    after = np.bincount(then.beat[nearest[same]] - 1, minlength=1)
    return int(after.argmax()) if after.max() > _NEARLY_ALL * len(lines) else 0


def _tempo(named: tuple[float, float], intervals: Floats, is_dotted: bool) -> tuple[float, float]:
    """The range of tempos (quarters a minute) to search, after intervals that are known to be beats; of dotted beats
    it holds the beats' own tempo and that of their quarters."""
    if not len(intervals) or not _holds(named, intervals, is_dotted):
        return named
    slowest, fastest = 60 / np.quantile(intervals, [1 - _STRAYS, _STRAYS])
    low, high = float(slowest / ANOTHER_LEVEL), float(fastest * ANOTHER_LEVEL) * (_DOTTED if is_dotted else 1.0)
    return (low, high) if named == USUAL_RANGE else (max(low, named[0]), min(high, named[1]))


def _holds(named: tuple[float, float], intervals: Floats, is_dotted: bool) -> bool:
    """Whether beats of such intervals lie in the range that the engineer named; the usual one was not named."""
    usual = float(60 / np.median(intervals))
    return named == USUAL_RANGE or (named[0] <= usual * (_DOTTED if is_dotted else 1.0) and usual <= named[1])
