"""Linking two takes by their sound: coarsely over all of both, in any key, then ever finer."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from core.listening.track import AnalysedTrack, Progress, no_progress
from core.reshaping.takes.features import chroma_features, onset_features, sounding
from core.reshaping.takes.link import Link
from core.reshaping.takes.warping import Frames, Pairs, aligned_with_gaps, likeness, refined
from core.reshaping.warp import Warp, WarpError

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

#: Frames a second of the first, coarse alignment; fewer where the takes are so long that its table would have more
#: cells than the second number.
_COARSE, _CELLS = 4.0, 3e7
#: First price of leaving out a frame, where two frames at random cost 1; price of leaving out at all, in seconds of it.
_GAP, _OPENING_SEC = 0.55, 4.0
#: How many times as good as chance an alignment must be for two takes to be of the same piece; and how many times as
#: good as in the same key for them to be in different keys.
_CLEARLY, _KEY_IS_CLEAR = 1.5, 1.2
#: Finer alignments: frames a second, and seconds on either side of the path before.
_FINER = ((20.0, 0.8), (100.0, 0.12))
#: How much slower or quicker one take may be than the other, as factors; seconds between two anchors, least.
_TEMPOS, _NEAREST = (0.5, 2.0), 0.05
#: Seconds: shorter stretches are chance.
_SHORTEST = 6.0


def link_by_sound(
    leader: Sequence[AnalysedTrack], follower: Sequence[AnalysedTrack], progress: Progress = no_progress
) -> Link:
    """Stretches of two takes that sound alike. Raises :class:`core.reshaping.warp.WarpError` where there are none."""
    sounds = [sounding(take) for take in (follower, leader)]
    seconds = [b - a for a, b in sounds]
    if min(seconds) < _SHORTEST:
        raise WarpError("A take is too short to be linked by its sound.")
    rate = min(_COARSE, float(np.sqrt(_CELLS / (seconds[0] * seconds[1]))))
    coarse = [
        chroma_features(take, rate)[int(a * rate) : int(b * rate) + 1]
        for take, (a, b) in zip((follower, leader), sounds, strict=True)
    ]
    progress(0.1)
    pairs, semitones = _aligned(coarse[0], coarse[1], rate, lambda x: progress(0.2 + 0.2 * x))
    pairs += np.array([int(a * rate) for a, _ in sounds])
    found = [(p[:, 0] / rate, p[:, 1] / rate) for p in _stretches(pairs, rate)]
    if not found:
        raise WarpError("These takes do not sound alike: no stretch of one was found in the other.")
    rows = [(_fine_features(follower, finer), _fine_features(leader, finer, semitones)) for finer, _ in _FINER]
    for k, (finer, beside) in enumerate(_FINER):
        found = [_thinned(*_refined(rows[k], path, finer, beside)) for path in found]
        progress(0.5 + 0.2 * k)
    found[0] = _extended(found[0], rows[0], sounds, -1)
    found[-1] = _extended(found[-1], rows[0], sounds, 1)
    return Link(tuple(Warp(*path) for path in found))


def _extended(
    path: tuple[Floats, Floats], rows: Sequence[Frames], sounds: Sequence[tuple[float, float]], side: int
) -> tuple[Floats, Floats]:
    """The first stretch (``side`` -1) on to where a take begins, or the last (1) to where one ends.

    There the harmony may differ, as players come in one after the other: attacks decide how far it goes.
    """
    end = 0 if side < 0 else -1
    room = min(abs(sound[end] - axis[end]) for sound, axis in zip(sounds, path, strict=True)) - _EVERY
    if room < 1:
        return path
    near = np.abs(path[0] - path[0][end]) < _TEMPO_SEC
    slope = float(np.clip(np.polyfit(path[0][near], path[1][near], 1)[0], *_TEMPOS)) if near.sum() > 2 else 1.0
    follower = path[0][end] + side * np.array([0.0, room / max(1.0, slope)])
    leader = path[1][end] + (follower - path[0][end]) * slope
    order = slice(None, None, side)
    rate, beside = _FINER[0]
    at, to = _thinned(*_refined(rows, (follower[order], leader[order]), rate, beside))
    alike = _agreeing(rows, at * rate, to * rate, round(_ALIKE_SEC * rate))
    if side < 0:
        alike = alike[::-1]
    share = np.cumsum(alike) / np.arange(1, len(alike) + 1)
    far = int(np.flatnonzero(share >= _MOSTLY)[-1]) + 1 if (share >= _MOSTLY).any() else 0
    kept = slice(len(at) - far, None) if side < 0 else slice(0, far)
    joined = [np.concatenate([b[kept], a] if side < 0 else [a, b[kept]]) for a, b in zip(path, (at, to), strict=True)]
    rising = np.concatenate(([True], (np.diff(joined[0]) > _NEAREST) & (np.diff(joined[1]) > _NEAREST)))
    return joined[0][rising], joined[1][rising]


#: Seconds from which the tempo beyond an end is told; seconds around a place in which attacks are compared; by how much
#: they have to agree better on the path than beside it, as a factor; frames that are beside it.
_TEMPO_SEC, _ALIKE_SEC, _BETTER, _BESIDE = 12.0, 3.0, 1.1, (-8, -5, 5, 8)
#: Share of the places up to one that have to agree.
_MOSTLY = 0.7


def _agreeing(rows: Sequence[Frames], first: Floats, second: Floats, window: int) -> Bools:
    """At which places of a path (frames of both rows) the onsets around agree better than beside it."""
    own = np.arange(int(first[0]), int(first[-1]) + 1)
    there = np.round(np.interp(own, first, second)).astype(int)
    mine = rows[0][own, 12:]

    def apart(off: int) -> Floats:
        other = rows[1][np.clip(there + off, 0, len(rows[1]) - 1), 12:]
        distance = np.abs(mine - other).mean(axis=1).astype(np.float64)
        return np.asarray(uniform_filter1d(distance, 2 * window, mode="nearest"))

    on_path, beside = apart(0), np.min([apart(off) for off in _BESIDE], axis=0)
    better = _BETTER * on_path < beside
    return np.asarray(better[np.clip(np.round(first - own[0]).astype(int), 0, len(own) - 1)])


def _aligned(first: Frames, second: Frames, rate: float, tick: Progress) -> tuple[Pairs, int]:
    """The frames that belong together, and by how many semitones the second take is to go up for them; no pairs where
    the two takes are not of the same piece.

    What an alignment is worth is measured against one that means nothing: with one take from its end to its start.
    What is no more alike than what chance puts together there is left out.
    """

    done = 0.0

    def align(other: Frames, gap: float = _GAP) -> Pairs:
        return aligned_with_gaps(first, other, gap, gap * _OPENING_SEC * rate, lambda: tick(done))

    def in_key(by: int) -> Frames:
        return np.ascontiguousarray(np.roll(second, by, axis=1))

    def worth(pairs: Pairs, other: Frames) -> float:
        return len(pairs) * (_GAP - likeness(first, other, pairs)) if len(pairs) else 0.0

    best, semitones = -np.inf, 0
    # one take may be in another key, or at another speed of the tape
    for k, by in enumerate((0, 1, -1, 2, -2, 3, -3, 4, -4, 5, -5, 6)):
        done, other = k / 14, in_key(by)
        found = worth(align(other), other)
        if found > best * (_KEY_IS_CLEAR if semitones == 0 else 1):
            best, semitones = found, by
    done, backwards = 12 / 14, np.ascontiguousarray(in_key(semitones)[::-1])
    chance = align(backwards)
    if best < _CLEARLY * max(worth(chance, backwards), 1e-9):
        return chance[:0], 0
    done = 13 / 14
    return align(in_key(semitones), likeness(first, backwards, chance) if len(chance) else _GAP), semitones


def _stretches(pairs: Pairs, rate: float) -> list[Pairs]:
    """The matched pairs, parted where one take has something that the other lacks; stretches too short to be more than
    chance go."""
    apart = np.flatnonzero((np.diff(pairs, axis=0) > 2).any(axis=1)) + 1
    parts = [p for p in np.split(pairs, apart) if len(p) and (p[-1] - p[0]).min() >= _SHORTEST * rate]
    out: list[Pairs] = []
    for part in parts:
        if out and _is_bridged(out[-1], part, rate):
            out[-1] = np.concatenate([out[-1], part])
        else:
            out.append(part)
    return out


def _is_bridged(before: Pairs, behind: Pairs, rate: float) -> bool:
    """Whether two stretches are one: both takes last about as long between them, at the tempo of what is around, and
    only sound unlike there; or both are short, as a held chord is."""
    own, theirs = (behind[0] - before[-1]) / rate
    around = np.concatenate([np.diff(part[[0, -1]], axis=0) for part in (before, behind)]).sum(axis=0)
    expected = own * around[1] / max(1, around[0])
    if own <= 0 or theirs <= 0:
        return False
    alike = abs(np.log(theirs / expected)) < np.log(_SAME_LENGTH) and own < _LONGEST_BRIDGE
    return bool(alike or (max(own, theirs) < _HELD and _TEMPOS[0] <= theirs / expected <= _TEMPOS[1]))


#: Stretches between which both takes last as long, but for this factor, are one; seconds of the longest such place, and
#: of one that may be held twice as long.
_SAME_LENGTH, _LONGEST_BRIDGE, _HELD = 1.12, 30.0, 6.0


def _fine_features(take: Sequence[AnalysedTrack], rate: float, up: int = 0) -> Frames:
    """Harmony and attacks, ``(frames, 25)``, with pitch classes ``up`` by so many semitones."""
    harmony, onsets = chroma_features(take, rate), onset_features(take, rate)
    n = min(len(harmony), len(onsets))
    parts = np.roll(harmony, up, axis=1)[:n], np.roll(onsets[:, :12], up, axis=1)[:n], onsets[:n, 12:]
    return np.concatenate(parts, axis=1)


def _refined(
    rows: Sequence[NDArray[np.float32]], path: tuple[Floats, Floats], rate: float, beside: float
) -> tuple[Floats, Floats]:
    """A path (seconds of follower and leader) found again at ``rate`` frames a second, within ``beside`` seconds."""
    first, last = (int(np.clip(round(t * rate), 0, len(rows[0]) - 1)) for t in (path[0][0], path[0][-1]))
    at = np.arange(first, last + 1)
    expected = np.interp(at / rate, *path) * rate
    low = max(0, int(expected[0] - beside * rate) - 1)
    high = min(len(rows[1]), int(expected[-1] + beside * rate) + 2)
    found = refined(rows[0][at], rows[1][low:high], expected - low, round(beside * rate))
    return (first + found[:, 0]) / rate, (low + found[:, 1]) / rate


#: Seconds between the anchors that a path keeps; it is smoothed over as long.
_EVERY = 0.5


def _thinned(follower: Floats, leader: Floats) -> tuple[Floats, Floats]:
    """Anchors every half second: a straight line through the path around each, so that its steps of a frame go."""
    at = np.arange(follower[0], follower[-1] + 1e-9, _EVERY)
    out = np.empty(len(at))
    for k, t in enumerate(at):
        a, b = np.searchsorted(follower, [t - _EVERY, t + _EVERY + 1e-9])
        x, y = follower[a:b] - t, leader[a:b]
        out[k] = np.polyfit(x, y, 1)[1] if np.ptp(x) > _EVERY / 2 else y.mean()
    keep = np.concatenate(([True], np.diff(np.maximum.accumulate(out)) > 0.1 * _EVERY))
    return at[keep], np.maximum.accumulate(out)[keep]
