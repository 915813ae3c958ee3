"""Overlap-add in time: grains of the recording, each taken where its wave goes on most like the one before.

Waveform similarity overlap-add (Verhelst and Roelands, ICASSP 1993) with attacks copied as they are: where the path has
slope one, grains follow one another without a seam (after Grofit and Lavner, IEEE Transactions on Audio, Speech and
Language Processing, 2008). All channels take the same grains, so what was in phase stays so.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numba import njit

from core.audio import Samples
from core.reshaping.engines.path import Floats, Ints, Path
from core.reshaping.sources import SampleSource

#: Seconds: half a grain, and how far a grain may be shifted to fit.
HOP, SEEK = 0.012, 0.008
#: Frames of the result a block.
_BLOCK = 1 << 16
#: Samples: the step of the rough search, and that at which waves are compared.
_ROUGH, _EVERY = 8, 6


def by_similarity(source: SampleSource, path: Path) -> Iterator[Samples]:
    """The result along ``path`` from its first to its last sample, in blocks ``(frames, channels)``."""
    rate = source.rate
    hop, seek = round(HOP * rate), round(SEEK * rate)
    first, last = round(path.target[0]), round(path.target[-1])
    state = np.array([0, 0, 0, -1], dtype=np.int64)  # piece, zone, where the last grain was taken, and put
    at = first
    margin = 4 * (hop + seek) + rate // 8
    while at < last:
        until = min(at + _BLOCK, last)
        ends = np.interp([at, until + hop], path.target, path.source)
        # what the last grain would go on with may lie behind a jump of the path
        low = int(min(ends[0], state[2] if state[3] >= 0 else ends[0])) - margin
        high = int(max(ends[1], state[2])) + margin
        window = source.read(low, high)
        block, start = _overlap_add(
            window, low, path.target, path.source, path.zone_target, path.zone_source, state, at, until, last,
            hop, seek, path.before,
        )  # fmt: skip
        yield block
        at = start


@njit(cache=True, nogil=True)
def _overlap_add(
    window: Samples,
    low: int,
    outs: Floats,
    ins: Floats,
    zones: Ints,
    zone_ins: Ints,
    state: Ints,
    start: int,
    until: int,
    last: int,
    hop: int,
    seek: int,
    short: int,
) -> tuple[Samples, int]:
    """Grains of ``hop`` samples, each melting into the next, from ``start`` until one reaches ``until``, and where that
    is.

    At the start of a zone around an attack a grain is cut short and melts within ``short`` samples, so that the attack
    is heard once. ``window`` begins at sample ``low`` of the recording; ``state`` goes from call to call.
    """
    frames, channels = window.shape
    piece, zone, last_best, last_start = state[0], state[1], state[2], state[3]
    first = start
    out = np.zeros((until - first + hop, channels), dtype=np.float32)
    while start < until:
        while piece < len(outs) - 2 and start + 1 >= outs[piece + 1]:
            piece += 1
        while zone < len(zones) and zones[zone] < start:
            zone += 1
        opens = zone < len(zones) and zones[zone] == start
        after = start + hop
        if opens:
            zone += 1
        if zone < len(zones) and zones[zone] < after:
            after = zones[zone]
        after = min(after, last)
        slope = (ins[piece + 1] - ins[piece]) / (outs[piece + 1] - outs[piece])
        best = int(np.round(ins[piece] + (start - outs[piece]) * slope))
        natural = last_best + start - last_start
        if last_start >= 0 and abs(slope - 1.0) > 1e-9:
            # a grain is heard for two hops at most, the second while it melts into the next
            upmost = zone_ins[zone] - min(zones[zone] - start, 2 * hop) if zone < len(zones) else low + frames
            best = _fitting(window, low, min(best, upmost), natural, hop, seek, upmost)
        elif last_start >= 0 and abs(natural - best) <= 1:
            best = natural  # rounding is no reason for a seam
        fade = short if opens else hop
        for k in range(after - start):
            rise = 1.0
            if last_start >= 0 and k < fade and best != natural:
                rise = 0.5 - 0.5 * np.cos(np.pi * (k + 0.5) / fade)
            j, old = best + k - low, natural + k - low
            for c in range(channels):
                x = window[j, c] if 0 <= j < frames else np.float32(0.0)
                if rise < 1.0:
                    x = rise * x + (1 - rise) * (window[old, c] if 0 <= old < frames else 0.0)
                out[start + k - first, c] = x
        last_best, last_start = best, start
        start = after
    state[0], state[1], state[2], state[3] = piece, zone, last_best, last_start
    return out[: start - first], start


@njit(cache=True, nogil=True)
def _fitting(window: Samples, low: int, best: int, natural: int, hop: int, seek: int, upmost: int) -> int:
    """The place near ``best``, not beyond ``upmost`` (an attack would sound twice), whose wave is most like what would
    go on naturally: looked for roughly first, then finely around the best."""
    rough = _most_alike(window, low, best - seek, min(best + seek, upmost), _ROUGH, natural, hop, best)
    return int(_most_alike(window, low, rough - _ROUGH + 1, min(rough + _ROUGH - 1, upmost), 1, natural, hop, rough))


@njit(cache=True, nogil=True)
def _most_alike(
    window: Samples, low: int, first: int, last: int, step: int, natural: int, hop: int, otherwise: int
) -> int:
    frames, channels = window.shape
    most, chosen = -1e30, otherwise
    for at in range(first, last + 1, step):
        total, power = 0.0, 1e-9
        for k in range(0, hop, _EVERY):
            here, there = at + k - low, natural + k - low
            if 0 <= here < frames and 0 <= there < frames:
                for c in range(channels):
                    x = window[here, c]
                    total += x * window[there, c]
                    power += x * x
        score = total / np.sqrt(power)
        if score > most:
            most, chosen = score, at
    return chosen
