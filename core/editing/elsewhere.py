"""One correction, offered everywhere it fits: where a stretch was counted at another level, or its off-beats became the
beats, other stretches with the same mistake are looked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from core.document import Document
from core.document.commands import Command, Ratio, Redetect
from core.editing import Recording, apply
from core.editing.stretches import RATIOS
from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.edits import EditError, pins_of
from core.tempomap.pulses import has_pulses
from core.tracking.beat_patterns import read_pattern
from core.tracking.context import AnalysisContext
from core.tracking.doubts.doubt import LISTEN, Doubt, Remedy
from core.tracking.doubts.map_view import runs
from core.tracking.hypothesis import score_hypothesis
from core.tracking.parameters import HYPOTHESIS_WEIGHTS, USUAL_RANGE

Floats = NDArray[np.float64]

#: Half a beat on, as a correction; all others are ratios of new beats to old ones.
OFF_BEATS = "off-beats"
#: Ratios and tempos within this (natural logarithm) are the same.
_SAME = 0.12
#: Beats of two maps within so many seconds are the same.
_SAME_BEAT = 0.004
#: Fewest beats of a stretch that was put right, and of one that is looked at.
_FEWEST, _WINDOW = 4, 12
#: Share of the new beats that lie about half-way between old ones where the off-beats became the beats, and how far.
_MOST, _HALF_WAY = 0.7, (0.3, 0.7)
#: What has to speak for the correction elsewhere, as a share of what speaks for it where it was made.
_AS_MUCH = 0.5
#: Frames (100 a second) around a chain that are looked at with it.
_NEAR = 50
#: Windows begin every so many beats; the second in long takes, of which about so many windows are looked at.
_EVERY, _EVERY_IN_LONG, _WINDOWS = 4, 12, 150
#: So many beats beyond a window its mistake may begin or end.
_BEYOND = _EVERY_IN_LONG


@dataclass(frozen=True)
class Correction:
    """What an edit did between ``start`` and ``end`` (seconds): ``kind`` is a ratio as of
    :class:`core.document.commands.Ratio`, or :data:`OFF_BEATS`. ``interval``: seconds between beats before it;
    ``gain``: by how much the recording speaks for it, in nats."""

    kind: str
    start: float
    end: float
    interval: float
    gain: float


def correction_of(context: AnalysisContext, before: TempoMap, after: TempoMap) -> Correction | None:
    """What an edit from one map to the next did to the level or the phase of a stretch; None where it did neither."""
    old, new = before.beats().seconds, after.beats().seconds
    only_old, only_new = _without(old, new), _without(new, old)
    changed = np.concatenate([only_old, only_new])
    if not len(changed):
        return None
    # the beats around the change, which both maps have
    inside = [x[(x > changed.min() - 1e-9) & (x < changed.max() + 1e-9)] for x in (old, new)]
    shared_before = old[old < changed.min() - _SAME_BEAT][-1:]
    shared_after = old[old > changed.max() + _SAME_BEAT][:1]
    was, now = (np.concatenate([shared_before, x, shared_after]) for x in inside)
    if min(len(was), len(now)) <= _FEWEST:
        return None
    kind = _kind(was, now, only_new)
    if kind is None:
        return None
    gain = _score(context, now) - _score(context, was)
    return Correction(kind, float(was[0]), float(was[-1]), float(np.median(np.diff(was))), gain)


def _without(these: Floats, others: Floats) -> Floats:
    """Those of ``these`` that are not among ``others``."""
    after = np.clip(np.searchsorted(others, these), 1, len(others) - 1)
    nearest = np.minimum(np.abs(these - others[after - 1]), np.abs(these - others[after]))
    return np.asarray(these[nearest > _SAME_BEAT])


def _kind(was: Floats, now: Floats, only_new: Floats) -> str | None:
    ratio = float(np.log(np.median(np.diff(was)) / np.median(np.diff(now))))
    off = {name: abs(ratio - float(np.log(np.divide(*_parts(name))))) for name in RATIOS}
    nearest = min(off, key=off.__getitem__)
    if off[nearest] < min(_SAME, abs(ratio)):
        return nearest
    between = np.interp(only_new, was, np.arange(len(was))) % 1
    half_way = (between > _HALF_WAY[0]) & (between < _HALF_WAY[1])
    if abs(ratio) < _SAME and len(only_new) >= _FEWEST and half_way.mean() > _MOST:
        return OFF_BEATS
    return None


def _parts(ratio: str) -> tuple[int, int]:
    """New beats and old ones of a ratio."""
    times, over = ratio.split(":")
    return int(times), int(over)


def _score(context: AnalysisContext, seconds: Floats) -> float:
    """How well a short chain of beats fits what is played around it, in nats."""
    frames = np.round(seconds * FRAME_RATE).astype(np.int64)
    frames = frames[(frames >= 0) & (frames < len(context.onset_envelope))]
    if len(frames) <= _FEWEST or (np.diff(frames) <= 0).any():
        return -np.inf
    near = slice(max(0, int(frames[0]) - _NEAR), int(frames[-1]) + _NEAR)
    envelope, activation = context.onset_envelope[near], context.beat_activation[near, 0]
    found = score_hypothesis(envelope, frames - near.start, *USUAL_RANGE, activation)
    pattern = read_pattern(context.bands.along(frames))[0] if context.bands else 0.0
    return found.score + HYPOTHESIS_WEIGHTS["pattern"] * pattern


def _corrected(seconds: Floats, kind: str) -> list[Floats]:
    """The chains that a correction could make of one: each way in which old beats may stay."""
    at = np.arange(len(seconds), dtype=np.float64)
    if kind == OFF_BEATS:
        return [(seconds[1:] + seconds[:-1]) / 2]
    times, over = _parts(kind)
    return [np.interp(np.arange(k, at[-1] + 1e-9, over / times), at, seconds) for k in range(over)]


def elsewhere(document: Document, recording: Recording, corrections: Sequence[Correction]) -> list[Doubt]:
    """Stretches of the map in which a correction fits as it did where it was made, each as a doubt with the command.

    Stretches with pins are left alone, and those that were put right. Raises
    :class:`core.tracking.context.NoBeats`.
    """
    tempo_map = document.map
    if tempo_map is None or has_pulses(tempo_map):
        return []
    context, seconds = recording.context(), tempo_map.beats().seconds
    known = np.isin(seconds, tempo_map.seconds[pins_of(tempo_map)])
    for c in corrections:
        known |= (seconds > c.start + _SAME_BEAT) & (seconds < c.end - _SAME_BEAT)
    out: list[Doubt] = []
    for c in corrections:
        for first, last in runs(_like(context, seconds, known, c)):
            doubt = _offer(document, recording, c, first, last)
            if doubt is not None:
                out.append(doubt)
                known[first : last + 1] = True
    return out


def _like(context: AnalysisContext, seconds: Floats, known: NDArray[np.bool_], c: Correction) -> NDArray[np.bool_]:
    """Which beats lie in windows at the tempo that was wrong in which the recording speaks for the correction."""
    found = np.zeros(len(seconds), dtype=bool)
    least = max(0.0, _AS_MUCH * c.gain)
    every = int(np.clip(len(seconds) // _WINDOWS, _EVERY, _EVERY_IN_LONG))
    for k in range(0, len(seconds) - _WINDOW, every):
        window = seconds[k : k + _WINDOW + 1]
        if known[k : k + _WINDOW + 1].any() or abs(np.log(np.median(np.diff(window)) / c.interval)) > _SAME:
            continue
        if max(_score(context, x) for x in _corrected(window, c.kind)) > _score(context, window) + least:
            found[k : k + _WINDOW + 1] = True
    return found


def _whole(seconds: Floats, c: Correction, first: int, last: int) -> tuple[int, int]:
    """The mistake around beats ``first`` to ``last``, up to where the tempo is another; where the chain came off the
    beat, with the uneven gap there."""
    same = np.abs(np.log(np.diff(seconds) / c.interval)) < _SAME
    least, most = max(0, first - _BEYOND), min(len(seconds) - 1, last + _BEYOND)
    while first > least and same[first - 1]:
        first -= 1
    while last < most and same[last]:
        last += 1
    if c.kind == OFF_BEATS:
        return max(first - 1, 0), min(last + 1, len(seconds) - 1)
    return first, last


def _offer(document: Document, recording: Recording, c: Correction, first: int, last: int) -> Doubt | None:
    """A doubt about beats ``first`` to ``last`` with the correction as its remedy, where it fits once it is tried."""
    tempo_map = document.map
    assert tempo_map is not None
    context, beats = recording.context(), tempo_map.beats()
    first, last = _whole(beats.seconds, c, first, last)
    command: Command
    if c.kind == OFF_BEATS:
        command = Redetect((float(beats.seconds[first]), float(beats.seconds[last])))
        words, did = "detect these beats again, too", "put its beats where the off-beats were"
    else:
        over = _parts(c.kind)[1]
        ways = _corrected(beats.seconds[first : last + 1], c.kind)
        first += int(np.argmax([_score(context, x) for x in ways]))
        last -= (last - first) % over
        command = Ratio(c.kind, stretch=(float(beats.seconds[first]), float(beats.seconds[last])))
        did = f"took {RATIOS[c.kind].lower()}"
        words = f"{RATIOS[c.kind].lower()} here, too"
    start, end = float(beats.seconds[first]), float(beats.seconds[last])
    try:
        after = apply(command, document, recording).document.map
    except EditError:
        return None
    assert after is not None
    now = after.beats().seconds
    if _score(context, now[(now > start - 0.01) & (now < end + 0.01)]) <= _score(
        context, beats.seconds[first : last + 1]
    ):
        return None
    bars = f"bars {beats.bar[first]} to {beats.bar[last]}" if beats.bar[first] < beats.bar[last] else "this bar"
    at = int(tempo_map.beats().bar[np.argmin(np.abs(beats.seconds - c.start))])
    reason = f"Around bar {at} you {did}. The same seems to fit {bars}."
    return Doubt(
        "same", start, end, int(beats.bar[first]), int(beats.index[first]), LISTEN, reason, [Remedy(words, command)]
    )
