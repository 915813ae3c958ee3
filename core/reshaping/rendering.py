"""The sound of a warp: where it moves nothing, samples are copied; where it does, an engine makes them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from core.audio import Samples
from core.reshaping.engines import BY_NAME, EngineName
from core.reshaping.engines.path import KEPT_BEFORE
from core.reshaping.sources import SampleSource
from core.reshaping.warp import Warp

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Frames a block that is copied.
_BLOCK = 1 << 17
#: Seconds: a piece that keeps its pace is copied when it lasts as long; an engine's end melts into what follows.
_WORTH_COPYING, _MELT = 0.25, 0.012
#: Seconds: longer pieces are cut at the next attack, or where none comes, after the second time, with a longer melt. So
#: any place of the result is made without all that comes before it.
_SEGMENT, _LONGEST, _LONG_MELT = 2.5, 5.0, 0.08
#: Seconds before an attack at which a cut has left the path, at most.
_NEAR = 0.012


#: What would become so many times as long, or as short, is not stretched: there the result jumps. Silence, or what
#: comes before melting into what comes behind.
JUMP = 40.0


class Piece(NamedTuple):
    """Anchors in samples of result and recording, from one end of a piece to the other; ``moves``: it is made, not
    copied; ``melt``: samples over which its end melts into what follows; ``jumps``: see :data:`JUMP`."""

    target: Ints
    source: Ints
    moves: bool
    melt: int = 0
    jumps: bool = False

    @property
    def start(self) -> int:
        return int(self.target[0])

    @property
    def stop(self) -> int:
        return int(self.target[-1])


def length(warp: Warp, source: SampleSource) -> int:
    """Samples of the whole result: where the source's last sample comes to lie."""
    return max(0, round(float(warp.to_target(source.frames / source.rate)) * source.rate))


def rendered(
    source: SampleSource,
    warp: Warp,
    engine: EngineName,
    attacks: Floats,
    first: int = 0,
    last: int | None = None,
) -> Iterator[Samples]:
    """Samples ``first`` to ``last`` of the result in blocks ``(frames, channels)``; by default all of it.

    ``attacks``: seconds of the recording that are to keep their shape. Any part of the result is the same, to the bit,
    as in the whole.
    """
    last = length(warp, source) if last is None else last
    at = first
    for piece in pieces(warp, source.rate, attacks, first, last):
        place = piece.start
        for block in piece_samples(source, piece, engine, attacks):
            a, b = max(at, place), min(last, place + len(block), piece.stop)
            if a < b:
                yield block[a - place : b - place]
                at = b
            place += len(block)
            if place >= last:
                break


def piece_samples(source: SampleSource, piece: Piece, engine: EngineName, attacks: Floats) -> Iterator[Samples]:
    """All of a piece in blocks."""
    if piece.jumps:
        return iter((_jumped(source, piece),))
    return _stretched(source, piece, engine, attacks * source.rate) if piece.moves else _copied(source, piece)


def pieces(warp: Warp, rate: int, attacks: Floats, first: int, last: int) -> list[Piece]:
    """What of the result lies between samples ``first`` and ``last``: pieces that are copied, and pieces that move, cut
    at attacks where they are long."""
    source, target = warp.in_samples(rate)
    lead, tail = max(0, int(target[0]) - first) + 1, max(0, last - int(target[-1])) + 1
    target = np.concatenate(([target[0] - lead], target, [target[-1] + tail]))
    source = np.concatenate(([source[0] - lead], source, [source[-1] + tail]))
    still = (np.diff(target) == np.diff(source)) & (np.diff(target) >= _WORTH_COPYING * rate)
    still[[0, -1]] = True
    stretch = np.diff(target) / np.diff(source)
    jumps = (stretch > JUMP) | (stretch < 1 / JUMP)
    found: list[Piece] = []
    k = 0
    while k < len(still):
        end = k + 1
        while end < len(still) and still[end] == still[k] and not (jumps[end] or jumps[k]):
            end += 1
        piece = Piece(target[k : end + 1], source[k : end + 1], not still[k], round(_MELT * rate), bool(jumps[k]))
        found += _cut(piece, attacks * rate, rate) if piece.moves and not piece.jumps else [piece]
        k = end
    return [p for p in found if p.stop > first and p.start < last]


def _cut(piece: Piece, attacks: Floats, rate: int) -> list[Piece]:
    """The piece in segments that begin just before an attack."""
    before, near = round(KEPT_BEFORE * rate), round(_NEAR * rate)
    inside = np.round(attacks[(attacks > piece.source[0] + _SEGMENT * rate) & (attacks < piece.source[-1] - rate)])
    inside = inside.astype(np.int64)
    on_path = np.round(np.interp(inside, piece.source, piece.target)).astype(np.int64)
    # the recording keeps its pace from just before the attack up to it; what is around stays on the path
    early = np.round(np.interp(inside - near, piece.source, piece.target)).astype(np.int64)
    out: list[Piece] = []
    target, source = piece.target, piece.source
    while True:
        start = int(target[0])
        k = int(np.searchsorted(on_path, start + _SEGMENT * rate))
        forced = k >= len(inside) or on_path[k] > start + _LONGEST * rate
        at = start + round(_SEGMENT * rate) if forced else int(on_path[k]) - before
        if at >= piece.stop - rate:
            return [*out, Piece(target, source, True, piece.melt)]
        if forced:
            cut_in = round(float(np.interp(at, target, source)))
            ends, begins = [(at, cut_in)], [(at, cut_in)]
        else:
            cut = (at, int(inside[k]) - before)
            ends, begins = [(int(early[k]), int(inside[k]) - near), cut], [cut, (int(on_path[k]), int(inside[k]))]
        low, high = target < ends[0][0], target > begins[-1][0]
        out.append(Piece(*_joined(target[low], source[low], ends), True, _melt(forced, rate)))
        target, source = _joined(target[high], source[high], begins, first=True)


def _melt(forced: bool, rate: int) -> int:
    return round((_LONG_MELT if forced else _MELT) * rate)


def _joined(target: Ints, source: Ints, anchors: list[tuple[int, int]], first: bool = False) -> tuple[Ints, Ints]:
    """Anchors before (``first``) or behind those of a part of the path, where they rise."""
    more = np.array(anchors, dtype=np.int64).T
    sides = ((more[0], target), (more[1], source)) if first else ((target, more[0]), (source, more[1]))
    t, s = (np.concatenate(side) for side in sides)
    keep = [0]
    for k in range(1, len(t)):
        if t[k] > t[keep[-1]] and s[k] > s[keep[-1]]:
            keep.append(k)
        elif k == len(t) - 1:  # the end stays
            keep[-1] = k
    return t[keep], s[keep]


def _jumped(source: SampleSource, piece: Piece) -> Samples:
    """The recording fades out where the jump begins and in where it ends; between there is silence, or where the result
    has no time for it both at once."""
    count, first, last = piece.stop - piece.start, int(piece.source[0]), int(piece.source[-1])
    fade = min(piece.melt, count)
    rise = (0.5 - 0.5 * np.cos(np.pi * (np.arange(fade) + 0.5) / max(1, fade))).astype(np.float32)[:, None]
    before, behind = source.read(first, first + fade), source.read(last - fade, last)
    out = np.zeros((count, before.shape[1]), dtype=np.float32)
    out[:fade] += before * (1 - rise)
    out[count - fade :] += behind * rise
    return out


def _copied(source: SampleSource, piece: Piece) -> Iterator[Samples]:
    start, stop = int(piece.source[0]), int(piece.source[-1])
    for at in range(start, stop, _BLOCK):
        yield source.read(at, min(stop, at + _BLOCK))


def _stretched(source: SampleSource, piece: Piece, engine: EngineName, attacks: Floats) -> Iterator[Samples]:
    """An engine's samples, the last of which melt into the recording as it goes on from there."""
    start, stop = piece.start, piece.stop
    melt = min(piece.melt, (stop - start) // 4)
    rise = (0.5 - 0.5 * np.cos(np.pi * (np.arange(melt) + 0.5) / max(1, melt))).astype(np.float32)[:, None]
    goes_on = source.read(int(piece.source[-1]) - melt, int(piece.source[-1]))
    at = start
    for block in BY_NAME[engine](source, piece.target, piece.source, attacks):
        a = max(at, stop - melt)
        if at + len(block) > a:
            part, own = block[a - at :], slice(a - (stop - melt), at + len(block) - (stop - melt))
            block = np.concatenate([block[: a - at], part + (goes_on[own] - part) * rise[own]])
        yield block
        at += len(block)
