"""Waveforms of a result, drawn from the recording's: what is moved is drawn where it lies, without being rendered."""

from __future__ import annotations

import numpy as np

from core.audio.peaks import LEVELS
from core.reshaping.rendering import JUMP
from studio.analysis.features import peaks
from studio.library.models import Track
from studio.reshaping.result import Result


def result_peaks(result: Result, track: Track, level: int, first: int, count: int) -> bytes:
    """Peaks ``first`` to ``first + count`` at ``level`` samples a pair, as :func:`studio.analysis.features.peaks`.

    Raises ``KeyError`` and ``FileNotFoundError`` where there are none.
    """
    rate = result.session.sample_rate
    frames = result.frames(track)
    count = max(0, min(count, -(-frames // level) - first))
    if not count:
        return b""
    fine = max([f for f in LEVELS if f <= level // 2], default=LEVELS[0])
    edges = result.group_of(track.pk).warp.to_source(np.arange(first, first + count + 1) * level / rate) * rate / fine
    span = level / fine
    # where the result jumps it is silent, or too short to be seen
    silent = np.diff(edges) < span / JUMP
    low = np.maximum(0, np.floor(edges[:-1]).astype(np.int64))
    high = np.maximum(low + 1, np.ceil(edges[1:]).astype(np.int64))
    start = int(low.min())
    pairs = np.frombuffer(peaks(track, fine, start, int(high.max()) - start), dtype=np.int16).reshape(-1, 2)
    out = np.zeros((count, 2), dtype=np.int16)
    for i, (a, b) in enumerate(zip((low - start).tolist(), (high - start).tolist(), strict=True)):
        part = pairs[a:b]
        if len(part) and not silent[i]:
            out[i] = part[:, 0].min(), part[:, 1].max()
    return out.tobytes()
