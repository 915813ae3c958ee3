"""The sound of a warp: where it moves nothing, samples are copied; where it does, an engine makes them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from core.audio import Samples
from core.reshaping.engines import BY_NAME, EngineName
from core.reshaping.sources import SampleSource
from core.reshaping.warp import Warp

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Frames a block that is copied.
_BLOCK = 1 << 17
#: Seconds: a piece that keeps its pace is copied when it lasts as long; the engine's end melts into what is copied.
_WORTH_COPYING, _MELT = 0.25, 0.012


class _Piece(NamedTuple):
    """Anchors in samples of result and recording, from one end of a piece to the other; ``moves``: it is stretched."""

    target: Ints
    source: Ints
    moves: bool


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

    ``attacks``: seconds of the recording that are to keep their shape. A piece of the result depends on nothing but the
    warp from where it last kept its pace, so blocks are the same in every call that begins there.
    """
    last = length(warp, source) if last is None else last
    at = first
    for piece in _pieces(warp, source.rate, first, last):
        start, stop = int(piece.target[0]), int(piece.target[-1])
        blocks = _stretched(source, piece, engine, attacks * source.rate) if piece.moves else _copied(source, piece)
        place = start
        for block in blocks:
            a, b = max(at, place), min(last, place + len(block), stop)
            if a < b:
                yield block[a - place : b - place]
                at = b
            place += len(block)
            if place >= last:
                break
        if at >= last:
            return


def _pieces(warp: Warp, rate: int, first: int, last: int) -> list[_Piece]:
    """What of the result lies between ``first`` and ``last``, in pieces that move and pieces that do not."""
    source, target = warp.in_samples(rate)
    lead, tail = int(target[0]) - min(first, int(target[0])) + 1, max(last - int(target[-1]), 0) + 1
    target = np.concatenate(([target[0] - lead], target, [target[-1] + tail]))
    source = np.concatenate(([source[0] - lead], source, [source[-1] + tail]))
    still = (np.diff(target) == np.diff(source)) & (np.diff(target) >= _WORTH_COPYING * rate)
    still[[0, -1]] = True
    pieces: list[_Piece] = []
    k = 0
    while k < len(still):
        end = k + 1
        while end < len(still) and still[end] == still[k]:
            end += 1
        part = slice(k, end + 1)
        if target[end] > first and target[k] < last:
            pieces.append(_Piece(target[part], source[part], not still[k]))
        k = end
    return pieces


def _copied(source: SampleSource, piece: _Piece) -> Iterator[Samples]:
    start, stop = int(piece.source[0]), int(piece.source[-1])
    for at in range(start, stop, _BLOCK):
        yield source.read(at, min(stop, at + _BLOCK))


def _stretched(source: SampleSource, piece: _Piece, engine: EngineName, attacks: Floats) -> Iterator[Samples]:
    """An engine's samples, the last of which melt into what is copied from there on."""
    melt = min(round(_MELT * source.rate), int(piece.target[-1] - piece.target[0]) // 4)
    start, stop = int(piece.target[0]), int(piece.target[-1])
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
