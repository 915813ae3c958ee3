"""From notes in musical position to written notes: values, ties, rests and triplets, bar by bar."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from core.notes import ScoreNote, quarter_of_note
from core.tempomap import Meter, Meters

#: Units a quarter: sixteenths (3) and triplet eighths (4) are whole numbers of them.
UNITS = 12
#: Values that one note head can have, in units: whole to sixteenth, dotted ones, and those inside triplets.
_PLAIN = {48: ("whole", 0), 36: ("half", 1), 24: ("half", 0), 18: ("quarter", 1), 12: ("quarter", 0), 9: ("eighth", 1),
          6: ("eighth", 0), 3: ("16th", 0)}  # fmt: skip
_TRIPLET = {8: ("quarter", 0), 4: ("eighth", 0)}
#: The lowest pitch of the upper staff: middle C.
SPLIT = 60
#: Units by which what comes just before a beat belongs to it, and from which on a start lies inside a quarter.
_EARLY, _INSIDE = 1.2, 1.5
#: Places of sixteenths and of thirds in a quarter, in units.
_SIXTEENTHS, _THIRDS = (3, 6, 9), (4, 8)
#: Thirds are written where they lie off by less than this share of what sixteenths do, and nothing is so near the half.
_CLEARLY, _ON_HALF = 0.6, 0.8


@dataclass(frozen=True)
class WrittenNote:
    """One written note, chord or rest: ``start`` in units from its bar line, ``length`` in units.

    ``pitches`` is empty for a rest; ``tied`` to the one before and after; ``triplet``: three in the time of two;
    ``group``: 1 where a triplet group begins, -1 where it ends; ``beams``: by level, in MusicXML's words.
    """

    start: int
    length: int
    kind: str
    dots: int
    pitches: tuple[int, ...]
    from_before: bool = False
    to_next: bool = False
    triplet: bool = False
    group: int = 0
    beams: tuple[str, ...] = ()


@dataclass(frozen=True)
class Bar:
    """A bar as written: its staves, each a run of :class:`WrittenNote` that fills it."""

    number: int
    meter: Meter
    staves: tuple[tuple[WrittenNote, ...], ...]

    @property
    def units(self) -> int:
        return round(self.meter.quarters * UNITS)


def notate(notes: Sequence[ScoreNote], meters: Meters, first: int, last: int, staves: int = 2) -> list[Bar]:
    """Bars ``first`` to ``last`` as written on one or two staves (split at middle C), a single voice on each.

    Starts go to the nearest sixteenth or triplet eighth, whichever suits their beat; a note lasts to its end or to the
    next one on its staff, and short gaps between notes are closed, as a player would read them.
    """
    origin = float(meters.bar_quarters(first))
    end = round((float(meters.bar_quarters(last + 1)) - origin) * UNITS)
    lines = [round((float(q) - origin) * UNITS) for q in meters.bar_quarters(np.arange(first, last + 2))]
    events = [(UNITS * (quarter_of_note(meters, n) - origin), UNITS * n.length, n.pitch) for n in notes]
    events = [e for e in events if -UNITS / 8 <= e[0] < end]
    quarters = np.concatenate([np.arange(a, b, UNITS) for a, b in pairwise(lines)])
    thirds = _in_thirds([e[0] for e in events], quarters)
    out: list[tuple[tuple[WrittenNote, ...], ...]] = [() for _ in range(last - first + 1)]
    for staff in range(staves):
        mine = [e for e in events if staves == 1 or (e[2] >= SPLIT) == (staff == 0)]
        runs = _runs(mine, thirds, end)
        for i, (a, b) in enumerate(pairwise(lines)):
            meter = meters.meter_at(first + i)
            out[i] = (*out[i], tuple(_bar(runs, a, b, meter, thirds)))
    return [Bar(first + i, meters.meter_at(first + i), staff) for i, staff in enumerate(out)]


@dataclass(frozen=True)
class _Thirds:
    """The quarters of all bars (each bar counts its own), and those that are divided in three."""

    quarters: NDArray[np.int64]
    chosen: frozenset[int]

    def quarter(self, at: float) -> int:
        """Where the quarter around a place begins."""
        return int(self.quarters[max(0, int(np.searchsorted(self.quarters, at, side="right")) - 1)])

    def snap(self, at: float) -> int:
        """The nearest sixteenth, or third where the quarter is divided so."""
        begin = self.quarter(at + _EARLY)  # what comes just before a beat belongs to it
        step = 4 if begin in self.chosen else 3
        return begin + max(0, step * round((at - begin) / step))


def _in_thirds(starts: Sequence[float], quarters: NDArray[np.int64]) -> _Thirds:
    """Quarters in which thirds suit the starts clearly better than sixteenths."""
    plain = _Thirds(quarters, frozenset())
    by_beat: dict[int, list[float]] = {}
    for s in starts:
        begin = plain.quarter(s + _EARLY)
        by_beat.setdefault(begin, []).append(s - begin)
    whole = set(quarters[:-1][np.diff(quarters) == UNITS].tolist()) | {int(quarters[-1])}
    out = set()
    for begin, found in by_beat.items():
        inside = [x for x in found if _INSIDE < x < UNITS - _INSIDE]
        if not inside or begin not in whole:
            continue
        sixteenths = sum(min(abs(x - k) for k in _SIXTEENTHS) for x in inside)
        third = sum(min(abs(x - k) for k in _THIRDS) for x in inside)
        if third < _CLEARLY * sixteenths and not any(abs(x - UNITS / 2) < _ON_HALF for x in inside):
            out.add(begin)
    return _Thirds(quarters, frozenset(out))


def _runs(
    events: Sequence[tuple[float, float, int]], thirds: _Thirds, end: int
) -> list[tuple[int, int, tuple[int, ...]]]:
    """Chords by start: start, end and pitches in units."""
    chords: dict[int, dict[int, float]] = {}
    for start, length, pitch in events:
        at = max(0, thirds.snap(start))
        if at < end:
            held = chords.setdefault(at, {})
            held[pitch] = max(held.get(pitch, 0.0), start + length)
    starts = sorted(chords)
    out = []
    for at, after in zip(starts, starts[1:] + [end] * bool(starts), strict=True):
        stop = thirds.snap(max(chords[at].values()))
        # a gap of a sixteenth or less, or of less than half the way to the next, is how it was played, not written
        if after - stop <= 3 or ((stop - at) >= 0.5 * (after - at) and after - at <= 2 * UNITS):
            stop = after
        shortest = 4 if thirds.quarter(at) in thirds.chosen else 3
        out.append((at, min(after, max(at + shortest, stop)), tuple(sorted(chords[at]))))
    return out


def _bar(
    runs: Sequence[tuple[int, int, tuple[int, ...]]], a: int, b: int, meter: Meter, thirds: _Thirds
) -> list[WrittenNote]:
    out: list[WrittenNote] = []
    now = a
    for start, stop, pitches in runs:
        if stop <= a or start >= b:
            continue
        if start > now:
            out += _split(now, start, (), a, b, meter, thirds)
        pieces = _split(max(start, a), min(stop, b), pitches, a, b, meter, thirds)
        for i, p in enumerate(pieces):
            pieces[i] = replace(p, from_before=i > 0 or start < a, to_next=i + 1 < len(pieces) or stop > b)
        out += pieces
        now = min(stop, b)
    if now < b:
        out += _split(now, b, (), a, b, meter, thirds)
    return _beamed(_grouped(out), np.round(meter.beat_offsets * UNITS).astype(np.int64))


def _split(
    start: int, stop: int, pitches: tuple[int, ...], a: int, b: int, meter: Meter, thirds: _Thirds
) -> list[WrittenNote]:
    """A span as note values that keep the beats visible (common practice; Gould, "Behind Bars", 2011, from memory)."""
    out = []
    now = start
    compound = meter.denominator >= 8 and any(g == 3 for g in meter.groups)
    beats = np.round(meter.beat_offsets * UNITS).astype(int) + a
    while now < stop:
        begin = thirds.quarter(now)
        if begin in thirds.chosen:
            length = min(stop, begin + UNITS) - now
            if length in _TRIPLET:
                out.append(replace(_note(now - a, length, _TRIPLET, pitches), triplet=True))
                now += length
                continue
        value = max((v for v in _PLAIN if v <= _free(now, stop, beats, compound, thirds)), default=3)
        if value > stop - now:
            value = stop - now  # a rest of a triplet's size left over
        out.append(_note(now - a, value, _PLAIN if value in _PLAIN else {value: ("16th", 0)}, pitches))
        now += value
    return out


def _free(now: int, stop: int, beats: NDArray[np.int64], compound: bool, thirds: _Thirds) -> int:
    """How far a value may reach from here without hiding a beat."""
    room = stop - now
    here = int(np.searchsorted(beats, now, side="right")) - 1
    nearest = int(beats[min(here + 1, len(beats) - 1)])
    if now != int(beats[here]):
        # off the beat: to the next beat; an eighth, a quarter and an eighth are read as they are
        if not compound and (now - int(beats[here])) == UNITS // 2 and room == UNITS:
            return room
        room = min(room, nearest - now)
    last = thirds.quarter(stop)
    if last in thirds.chosen and now < last < stop:
        room = min(room, last - now)  # what ends inside a triplet is tied into it at its beat
    return room


def _note(start: int, length: int, table: dict[int, tuple[str, int]], pitches: tuple[int, ...]) -> WrittenNote:
    kind, dots = table[length]
    return WrittenNote(start, length, kind, dots, pitches)


def _grouped(run: list[WrittenNote]) -> list[WrittenNote]:
    """Marks where each beat's triplet begins and ends."""
    out = list(run)
    i = 0
    while i < len(out):
        if not out[i].triplet:
            i += 1
            continue
        beat, j = out[i].start // UNITS, i
        while j + 1 < len(out) and out[j + 1].triplet and out[j + 1].start // UNITS == beat:
            j += 1
        if j > i:
            out[i], out[j] = replace(out[i], group=1), replace(out[j], group=-1)
        i = j + 1
    return out


def _beamed(run: list[WrittenNote], beats: NDArray[np.int64]) -> list[WrittenNote]:
    """Eighths and sixteenths of one felt beat joined by beams."""
    out, i = list(run), 0
    while i < len(out):
        beat, j = _beat(out[i], beats), i
        while j < len(out) and out[j].pitches and out[j].kind in ("eighth", "16th") and _beat(out[j], beats) == beat:
            j += 1
        if j - i > 1:
            for k in range(i, j):
                out[k] = replace(out[k], beams=_beams(out[i:j], k - i))
        i = max(j, i + 1)
    return out


def _beat(w: WrittenNote, beats: NDArray[np.int64]) -> int:
    return int(np.searchsorted(beats, w.start, side="right"))


def _beams(group: Sequence[WrittenNote], k: int) -> tuple[str, ...]:
    first = "begin" if k == 0 else "end" if k == len(group) - 1 else "continue"
    if group[k].kind != "16th":
        return (first,)
    before = k > 0 and group[k - 1].kind == "16th"
    after = k + 1 < len(group) and group[k + 1].kind == "16th"
    second = {(False, True): "begin", (True, True): "continue", (True, False): "end"}.get((before, after))
    return first, second or ("forward hook" if k == 0 else "backward hook")


@dataclass(frozen=True)
class Readability:
    """How hard a notation is to read: note heads (chords count once), and of those the tied and dotted ones, a bar."""

    bars: int
    notes: int
    tied: int
    dotted: int
    rests: int

    @property
    def burden(self) -> float:
        """Tied and dotted notes a bar."""
        return (self.tied + self.dotted) / max(1, self.bars)


def readability(bars: Sequence[Bar]) -> Readability:
    written = [w for b in bars for staff in b.staves for w in staff]
    heads = [w for w in written if w.pitches]
    return Readability(
        len(bars),
        len(heads),
        sum(w.to_next for w in heads),
        sum(w.dots > 0 for w in heads),
        sum(not w.pitches for w in written),
    )
