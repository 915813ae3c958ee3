"""Phase vocoder: long sounds of steady pitch are stretched partial by partial.

Identity phase locking after Laroche and Dolson (IEEE Transactions on Speech and Audio Processing, 1999): each peak of
the spectrum goes on with its own phase, and the bins around it turn with it. The phase increment comes from two frames
one hop apart in the recording, so nothing has to be unwrapped. One rotation serves all channels: it is read off their
cross spectrum, so that microphones of one instrument keep the phases between them. At attacks all rotations begin anew
(after Röbel, DAFx 2003): frames before one see nothing of it, and the attack itself is copied.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy import fft

from core.audio import Samples
from core.audio.windows import periodic_hann
from core.reshaping.engines.path import Floats, Path
from core.reshaping.sources import SampleSource

#: Seconds a frame lasts, at least; frames are powers of two, four of them overlap.
_FRAME = 0.08
_OVERLAP = 4
#: Frames of the result worked on at once.
_BATCH = 64
#: A peak of the spectrum is higher than so many bins on either side.
_NEIGHBOURS = 2


def frame_length(rate: int) -> int:
    """Samples a frame at ``rate`` Hz: 4096 at 44.1 and 48 kHz."""
    return int(2 ** np.ceil(np.log2(_FRAME * rate)))


def by_partials(source: SampleSource, path: Path) -> Iterator[Samples]:
    """The result along ``path`` from its first to its last sample, in blocks ``(frames, channels)``."""
    size = frame_length(source.rate)
    hop = size // _OVERLAP
    first, last = round(path.target[0]), round(path.target[-1])
    window = periodic_hann(size)
    scale = np.float32(1 / (_OVERLAP * np.mean(window**2)))
    # centres of frames from one before the first sample that is wanted to one behind the last
    centres = np.arange(first - size // 2, last + size // 2 + hop, hop, dtype=np.int64)
    places, resets = _places(centres, path, size)
    bins = size // 2 + 1
    rotation, before = np.zeros(bins), np.zeros((source.channels, bins), dtype=np.complex64)
    ring = np.zeros((size, source.channels), dtype=np.float32)
    done = first
    for k in range(0, len(centres), _BATCH):
        now, at = centres[k : k + _BATCH], places[k : k + _BATCH]
        here, earlier = _spectra(source, at, size, window), _spectra(source, at - hop, size, window)
        if k == 0:
            before = earlier[0].copy()
        turns = _rotations(here, earlier, before, rotation, resets[k : k + _BATCH])
        before = here[-1].copy()
        here *= turns[:, None, :]
        frames = fft.irfft(here, size, axis=-1).astype(np.float32)
        frames *= window * scale
        out = np.zeros((len(now) * hop + size, source.channels), dtype=np.float32)
        out[: len(ring)] = ring
        for j, frame in enumerate(frames):
            out[j * hop : j * hop + size] += frame.T
        ready = out[: len(now) * hop]
        ring = out[len(now) * hop :][:size]
        begins = int(now[0]) - size // 2
        a, b = max(done, begins), min(last, begins + len(ready))
        if a < b:
            block = ready[a - begins : b - begins]
            _copy_attacks(block, a, source, path)
            yield block
            done = b


def _source_at(target: NDArray[np.int64], path: Path) -> Floats:
    """Samples of the recording; outside the path at its own pace."""
    t = target.astype(np.float64)
    s = np.interp(t, path.target, path.source)
    s += np.minimum(0, t - path.target[0]) + np.maximum(0, t - path.target[-1])
    return s


def _places(centres: NDArray[np.int64], path: Path, size: int) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Where in the recording each frame is taken, and which are the first to stand on or behind an attack. A frame
    before an attack ends where the attack begins."""
    places = np.round(_source_at(centres, path)).astype(np.int64)
    resets = np.zeros(len(centres), dtype=np.bool_)
    if len(path.zone_target):
        zone = np.searchsorted(path.zone_target, centres, side="right")
        resets = np.diff(zone, prepend=zone[0]) > 0
        ends = np.append(path.zone_source, np.iinfo(np.int64).max)[zone]
        places = np.minimum(places, ends - size // 2)
    return places, resets


def _copy_attacks(block: Samples, at: int, source: SampleSource, path: Path) -> None:
    """Put the zones around attacks that touch ``block``, which begins at sample ``at``, in as they were played."""
    first = np.searchsorted(path.zone_target + path.zone_frames, at, side="right")
    last = np.searchsorted(path.zone_target, at + len(block), side="left")
    for z in range(first, last):
        count, start = int(path.zone_frames[z]), int(path.zone_target[z])
        share = np.ones(count, dtype=np.float32)
        rise = min(path.before, count // 3)
        share[:rise] = _ramp(rise)
        share[count - count // 3 :] = 1 - _ramp(count // 3)
        a, b = max(at, start), min(at + len(block), start + count)
        own = slice(a - start, b - start)
        copied = source.read(int(path.zone_source[z]) + own.start, int(path.zone_source[z]) + own.stop)
        block[a - at : b - at] += (copied - block[a - at : b - at]) * share[own, None]


def _ramp(count: int) -> Samples:
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * (np.arange(count) + 0.5) / max(1, count)), dtype=np.float32)


def _spectra(source: SampleSource, places: NDArray[np.int64], size: int, window: Samples) -> NDArray[np.complex64]:
    """Spectra ``(frames, channels, bins)`` of frames centred on ``places``."""
    low = int(places.min()) - size // 2
    block = source.read(low, int(places.max()) + size // 2)
    starts = places - size // 2 - low
    frames = np.stack([block[s : s + size].T for s in starts])
    return np.asarray(fft.rfft(frames * window, axis=-1), dtype=np.complex64)


@njit(cache=True, nogil=True)
def _rotations(
    here: NDArray[np.complex64],
    earlier: NDArray[np.complex64],
    before: NDArray[np.complex64],
    rotation: Floats,
    resets: NDArray[np.bool_],
) -> NDArray[np.complex64]:
    """What each frame's bins are turned by, ``(frames, bins)``; ``rotation`` goes on from call to call.

    ``earlier``: the frames one hop earlier in the recording; ``before``: what was the frame before the first.
    """
    frames, channels, bins = here.shape
    out = np.empty((frames, bins), dtype=np.complex64)
    power = np.empty(bins, dtype=np.float32)
    turned = np.empty(bins)
    for m in range(frames):
        last = before if m == 0 else here[m - 1]
        if resets[m]:
            rotation[:] = 0.0
        else:
            for b in range(bins):
                p = np.float32(0.0)
                for c in range(channels):
                    z = here[m, c, b]
                    p += z.real * z.real + z.imag * z.imag
                power[b] = p
            peak = -1
            # each bin belongs to the nearest peak; where none is, to itself
            for b in range(bins):
                is_peak = power[b] > 0
                for d in range(1, _NEIGHBOURS + 1):
                    if (b >= d and power[b - d] >= power[b]) or (b + d < bins and power[b + d] > power[b]):
                        is_peak = False
                        break
                if is_peak:
                    x = 0j
                    for c in range(channels):
                        x += last[c, b] * np.conj(earlier[m, c, b])
                    angle = rotation[b] + (np.arctan2(x.imag, x.real) if x != 0 else 0.0)
                    edge = 0 if peak < 0 else (peak + b + 1) // 2
                    for r in range(edge, b + 1):
                        turned[r] = angle
                    peak = b
                else:
                    turned[b] = turned[peak] if peak >= 0 else rotation[b]
            for b in range(bins):
                rotation[b] = turned[b]
        for b in range(bins):
            out[m, b] = np.complex64(np.cos(rotation[b]) + 1j * np.sin(rotation[b]))
    return out
