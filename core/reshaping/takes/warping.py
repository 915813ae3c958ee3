"""Dynamic time warping of two rows of features, with places that one of them lacks.

Coarsely first over everything, where frames of either take may be left out at a price; then ever finer near the path
that was found (Salvador and Chan, "FastDTW", 2007; Prätzlich, Driedger and Müller, "Memory-restricted multiscale
dynamic time warping", 2016). Steps of (1, 1), (1, 2) and (2, 1) frames keep the tempos within a factor of two of each
other (Sakoe and Chiba 1978); leaving out is priced as gaps are in sequence alignment: opening one, and each frame of it
(Gotoh 1982).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numba import njit
from numpy.typing import NDArray

Frames = NDArray[np.float32]
Ints = NDArray[np.int64]
#: A path of matched frames: indices in the first and in the second row, ``(n, 2)``, rising.
Pairs = NDArray[np.int64]

_FAR = 1e30


def likeness(first: Frames, second: Frames, pairs: Pairs) -> float:
    """Mean distance of matched frames, where two frames at random have 1."""
    distance = 1.0 - np.einsum("ij,ij->i", first[pairs[:, 0]], second[pairs[:, 1]])
    return float(distance.mean()) / _usual_distance(first, second)


def _usual_distance(first: Frames, second: Frames) -> float:
    return max(1e-6, 1.0 - float(first.mean(axis=0) @ second.mean(axis=0)))


def aligned_with_gaps(first: Frames, second: Frames, gap: float, opening: float, tick: Callable[[], None]) -> Pairs:
    """The frames that belong together; those of either row that have no counterpart are left out.

    Parameters
    ----------
    first, second : (n, features), (m, features)
        Unit vectors. The distance of two frames is their cosine distance, divided by that of two random frames.
    gap, opening : price of a frame that is left out, and of leaving out at all, where 1 is a frame pair at random.
    tick : called now and then; may raise to stop.
    """
    usual = _usual_distance(first, second)
    back = np.zeros((3, len(first), len(second)), dtype=np.uint8)
    rows = np.full((3, 3, len(second) + 2), _FAR, dtype=np.float32)
    for start in range(0, len(first), 256):
        tick()
        distance = (1.0 - first[start : start + 256] @ second.T) / usual
        _fill(distance.astype(np.float32), back, rows, start, gap, opening)
    ends = rows[(len(first) - 1) % 3, :, len(second) + 1]
    return _traced(back, int(np.argmin(ends)))


@njit(cache=True, nogil=True)
def _gap_from(before: Frames, gap: float, opening: float) -> tuple[float, int]:
    """The cheapest way into a gap, or on in it, from the states before: what it costs then, and the state."""
    best, code = _FAR, 255
    for state in range(len(before)):
        value = float(before[state]) + gap + (opening if state == 0 else 0.0)
        if value < best:
            best, code = value, state
    return best, code


@njit(cache=True, nogil=True)
def _fill(distance: Frames, back: NDArray[np.uint8], rows: Frames, start: int, gap: float, opening: float) -> None:
    """Rows of the table from ``start`` on. States: 0 matched, 1 the first row goes on alone, 2 the second does.

    ``rows``: the last three rows of the table by state, with two columns in front that are out of reach.
    ``back``: 4 times the step's kind (0 to 2 for matches; for gaps always 0) and the state before; 255 at the start.
    """
    m = distance.shape[1]
    for k in range(distance.shape[0]):
        i = start + k
        now, last, earlier = rows[i % 3], rows[(i - 1) % 3], rows[(i - 2) % 3]
        for state in range(3):
            now[state, :2] = _FAR
        for j in range(m):
            c = distance[k, j]
            best, code = _FAR, 255
            if i == 0 and j == 0:
                best = 2 * c
            elif i == 0 or j == 0:
                # what one take has before the other begins is left out without an opening
                best = 2 * c + gap * (i + j)
            for step in range(3):
                if step == 0:
                    source, at, weight = last, j + 1, 2.0
                elif step == 1:
                    source, at, weight = earlier, j + 1, 3.0
                else:
                    source, at, weight = last, j, 3.0
                if i < (2 if step == 1 else 1):
                    continue
                for state in range(3):
                    value = source[state, at] + weight * c
                    if value < best:
                        best, code = value, 4 * step + state
            now[0, j + 2] = best
            back[0, i, j] = code
            now[1, j + 2], back[1, i, j] = _gap_from(last[:2, j + 2], gap, opening) if i > 0 else (_FAR, 255)
            now[2, j + 2], back[2, i, j] = _gap_from(now[:, j + 1], gap, opening) if j > 0 else (_FAR, 255)


@njit(cache=True, nogil=True)
def _traced(back: NDArray[np.uint8], state: int) -> Pairs:
    i, j = back.shape[1] - 1, back.shape[2] - 1
    out = np.empty((i + j + 2, 2), dtype=np.int64)
    n = 0
    while i >= 0 and j >= 0:
        code = back[state, i, j]
        if state == 0:
            out[n, 0], out[n, 1] = i, j
            n += 1
            if code == 255:
                break
            step = code // 4
            i -= 2 if step == 1 else 1
            j -= 2 if step == 2 else 1
            state = code % 4
        elif code == 255:
            break
        elif state == 1:
            i, state = i - 1, code
        else:
            j, state = j - 1, code
    return out[:n][::-1].copy()


def refined(first: Frames, second: Frames, path: NDArray[np.float64], radius: int) -> Pairs:
    """The best path of steps (1, 0), (0, 1) and (1, 1) through all frames of the first row, no farther than ``radius``
    frames of the second from ``path`` (for each frame of the first row where it lay in the second; not falling)."""
    low = np.clip(np.floor(path).astype(np.int64) - radius, 0, len(second) - 1)
    high = np.clip(np.ceil(path).astype(np.int64) + radius, 0, len(second) - 1)
    low, high = np.maximum.accumulate(low), np.maximum.accumulate(high)
    high[:-1] = np.maximum(high[:-1], low[1:])  # where the path leaps the band goes along
    return _in_band(first, second, low, high)


@njit(cache=True, nogil=True)
def _in_band(first: Frames, second: Frames, low: Ints, high: Ints) -> Pairs:
    n = len(first)
    width = int((high - low).max()) + 1
    back = np.zeros((n, width), dtype=np.uint8)
    last = np.full(width, _FAR, dtype=np.float32)
    for i in range(n):
        now = np.full(width, _FAR, dtype=np.float32)
        shift = low[i] - low[i - 1] if i else 0
        for k in range(high[i] - low[i] + 1):
            c = np.float32(0.0)
            for f in range(first.shape[1]):
                c += abs(first[i, f] - second[low[i] + k, f])
            best, code = (c, 0) if i == 0 else (_FAR, 0)
            at = k + shift
            if i and 0 < at <= width and last[at - 1] + 2 * c < best:
                best, code = last[at - 1] + 2 * c, 1
            if i and at < width and last[at] + c < best:
                best, code = last[at] + c, 2
            if i and k > 0 and now[k - 1] + c < best:
                best, code = now[k - 1] + c, 3
            now[k] = best
            back[i, k] = code
        last = now
    i = n - 1
    j = low[i] + np.argmin(last[: high[i] - low[i] + 1])
    out = np.empty((n + len(second), 2), dtype=np.int64)
    count = 0
    while True:
        out[count, 0], out[count, 1] = i, j
        count += 1
        code = back[i, j - low[i]]
        if code == 1:
            i, j = i - 1, j - 1
        elif code == 2:
            i -= 1
        elif code == 3:
            j -= 1
        else:
            break
    return out[:count][::-1].copy()
