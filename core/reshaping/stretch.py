"""Time-stretching along any path of times, pitch kept, attacks untouched.

Waveform similarity overlap-add (Verhelst and Roelands, ICASSP 1993) with the source's attacks copied as they are: where
a stretch of the path has slope one, grains are taken exactly there and follow one another without a seam.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import ArrayLike, NDArray

Samples = NDArray[np.float32]
Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
#: Seconds: half a grain, how far a grain may be shifted to fit, and what is kept of an attack before and after it.
_HOP, _SEEK, _BEFORE, _AFTER = 0.012, 0.008, 0.003, 0.035


def time_stretched(
    source: Samples, rate: int, outs: ArrayLike, ins: ArrayLike, attacks: ArrayLike = (), frames: int | None = None
) -> Samples:
    """``source`` ``(frames, channels)`` moved so that second ``ins[i]`` of it sounds at second ``outs[i]``.

    ``outs`` and ``ins`` rise, two or more of each; between them time runs evenly, before and after them there is
    silence. ``attacks``: seconds of the source that are to keep their shape. ``frames``: length of the result;
    by default up to the last of ``outs``. Raises ``ValueError``.
    """
    o, i = np.asarray(outs, dtype=np.float64), np.asarray(ins, dtype=np.float64)
    if len(o) < 2 or len(o) != len(i) or (np.diff(o) <= 0).any() or (np.diff(i) <= 0).any():
        raise ValueError("A path of times needs two or more places that rise on both sides.")
    o, i, zones = _with_attack_zones(o, i, np.sort(np.asarray(attacks, dtype=np.float64)))
    count = round(float(o[-1]) * rate) if frames is None else frames
    source = np.ascontiguousarray(source, dtype=np.float32)
    hop, seek = round(_HOP * rate), round(_SEEK * rate)
    starts, begins = (np.round(x * rate).astype(np.int64) for x in zones)
    out: Samples = _overlap_add(
        source, o * rate, i * rate, starts, begins, count, hop, seek, max(1, round(_BEFORE * rate))
    )
    first, last = round(float(o[0]) * rate), round(float(o[-1]) * rate)
    out[: max(0, first)] = 0
    out[max(0, last) :] = 0
    return out


def _with_attack_zones(o: Floats, i: Floats, attacks: Floats) -> tuple[Floats, Floats, tuple[Floats, Floats]]:
    """The path with a piece of slope one around each attack, as long as the next one leaves room; and where those
    pieces begin, on either side."""
    attacks = attacks[(attacks >= i[0]) & (attacks < i[-1])]
    if not len(attacks):
        return o, i, (np.zeros(0), np.zeros(0))
    places = np.interp(attacks, i, o)
    outs, ins = [], []
    for k in range(len(attacks)):
        later_in = attacks[k + 1] - attacks[k] if k + 1 < len(attacks) else i[-1] - attacks[k]
        later_out = places[k + 1] - places[k] if k + 1 < len(attacks) else o[-1] - places[k]
        after = min(_AFTER, 0.6 * later_in, 0.6 * later_out)
        before = min(_BEFORE, attacks[k] - i[0], places[k] - o[0])
        if k:
            before = min(before, 0.3 * (attacks[k] - attacks[k - 1]), 0.3 * (places[k] - places[k - 1]))
        outs += [places[k] - before, places[k] + after]
        ins += [attacks[k] - before, attacks[k] + after]
    keep_o = np.array(
        [x for x in (o[0], o[-1]) if not any(a <= x <= b for a, b in zip(outs[::2], outs[1::2], strict=True))]
    )
    all_o = np.concatenate([np.array(outs), keep_o])
    all_i = np.concatenate([np.array(ins), np.interp(keep_o, o, i)])
    order = np.argsort(all_o, kind="stable")
    return all_o[order], all_i[order], (np.array(outs[::2]), np.array(ins[::2]))


@njit(cache=True, nogil=True)
def _overlap_add(
    source: Samples, outs: Floats, ins: Floats, zones: Ints, zone_ins: Ints, count: int, hop: int, seek: int, short: int
) -> Samples:
    """Grains of ``hop`` samples, each melting into the next; at the start of a zone around an attack a grain is cut
    short and melts within ``short`` samples, so that the attack is heard once."""
    frames, channels = source.shape
    out = np.zeros((count, channels), dtype=np.float32)
    piece, zone, start = 0, 0, 0
    last_best, last_start = 0, -1
    while start < count:
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
        after = min(after, count)
        slope = (ins[piece + 1] - ins[piece]) / (outs[piece + 1] - outs[piece])
        best = int(np.round(ins[piece] + (start - outs[piece]) * slope))
        natural = last_best + start - last_start
        if last_start >= 0 and abs(slope - 1.0) > 1e-9:
            # a grain is heard for two hops at most, the second while it melts into the next
            upmost = zone_ins[zone] - min(zones[zone] - start, 2 * hop) if zone < len(zones) else frames
            best = _fitting(source, min(best, upmost), natural, hop, seek, upmost)
        elif last_start >= 0 and abs(natural - best) <= 1:
            best = natural  # rounding is no reason for a seam
        fade = short if opens else hop
        for k in range(after - start):
            rise = 1.0
            if last_start >= 0 and k < fade:
                rise = 0.5 - 0.5 * np.cos(np.pi * (k + 0.5) / fade)
            j, old = best + k, natural + k
            for c in range(channels):
                x = source[j, c] if 0 <= j < frames else 0.0
                if rise < 1.0:
                    x = rise * x + (1 - rise) * (source[old, c] if 0 <= old < frames else 0.0)
                out[start + k, c] = x
        last_best, last_start = best, start
        start = after
    return out


@njit(cache=True, nogil=True)
def _fitting(source: Samples, best: int, natural: int, hop: int, seek: int, upmost: int) -> int:
    """The place near ``best``, not beyond ``upmost`` (an attack would sound twice), whose wave is most like what would
    go on naturally: looked for roughly first, then finely around the best."""
    rough = _most_alike(source, best - seek, min(best + seek, upmost), 8, natural, hop, best)
    return int(_most_alike(source, rough - 7, min(rough + 7, upmost), 1, natural, hop, rough))


@njit(cache=True, nogil=True)
def _most_alike(source: Samples, first: int, last: int, step: int, natural: int, hop: int, otherwise: int) -> int:
    frames = len(source)
    most, chosen = -1e30, otherwise
    for at in range(first, last + 1, step):
        total, power = 0.0, 1e-9
        for k in range(0, hop, 6):
            if 0 <= at + k < frames and 0 <= natural + k < frames:
                x = source[at + k, 0]
                total += x * source[natural + k, 0]
                power += x * x
        score = total / np.sqrt(power)
        if score > most:
            most, chosen = score, at
    return chosen
