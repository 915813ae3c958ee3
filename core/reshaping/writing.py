"""Reshaped tracks as files: all of one length, from zero; block by block, so that a take of any length fits."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_EXCEPTION, ThreadPoolExecutor, wait
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from core.reshaping.engines import EngineName
from core.reshaping.hushing import Hushed
from core.reshaping.plan import Hush
from core.reshaping.rendering import length, rendered
from core.reshaping.sources import FileSource, SampleSource, Together
from core.reshaping.warp import Warp

#: Called with the share done; may raise to stop the work.
Progress = Callable[[float], None]
#: How often progress is told, in seconds.
_LOOK = 0.2
#: How samples are written: 24 bits, or floating point, which never clips.
SUBTYPES = {"24": "PCM_24", "float": "FLOAT"}
#: Files larger than this many bytes are written as RF64 (EBU Tech 3306), which has no limit of 4 GB.
_LARGE = 4 * 10**9


@dataclass(frozen=True)
class TrackToWrite:
    """A recording and where its result goes. ``hushes``: where it is turned down."""

    source: Path
    out: Path
    hushes: tuple[Hush, ...] = ()


@dataclass(frozen=True)
class GroupToWrite:
    """Tracks that are stretched as one. ``attacks``: seconds of the recording that keep their shape."""

    tracks: tuple[TrackToWrite, ...]
    warp: Warp
    engine: EngineName
    attacks: NDArray[np.float64]


def no_progress(_: float) -> None:
    """For callers that do not watch."""


def by_rate(group: GroupToWrite) -> list[GroupToWrite]:
    """The group, in parts of one sample rate each."""
    rates: dict[int, list[TrackToWrite]] = {}
    for track in group.tracks:
        rates.setdefault(FileSource(track.source).rate, []).append(track)
    return [GroupToWrite(tuple(t), group.warp, group.engine, group.attacks) for t in rates.values()]


def needed_bytes(groups: Sequence[GroupToWrite], seconds: float, subtype: str = "24") -> int:
    """What the files will take on disk, about."""
    size = 4 if subtype == "float" else 3
    sources = [FileSource(t.source) for g in groups for t in g.tracks]
    return sum(round(seconds * s.rate) * s.channels * size for s in sources)


def longest(groups: Sequence[GroupToWrite]) -> float:
    """Seconds of the longest result: what all files last."""
    lengths = [length(g.warp, s) / s.rate for g in groups for s in (FileSource(t.source) for t in g.tracks)]
    return max(lengths, default=0.0)


def write_groups(
    groups: Sequence[GroupToWrite],
    subtype: str = "24",
    progress: Progress = no_progress,
    seconds: float | None = None,
    threads: int = 1,
) -> float:
    """Write all tracks; each lasts ``seconds``, by default as long as the longest. Returns that.

    Files appear under their names when they are whole. Raises :class:`core.audio.AudioError` and ``OSError``.
    """
    parts = [p for g in groups for p in by_rate(g)]
    lasts = longest(groups) if seconds is None else seconds
    done = [0.0] * len(parts)
    total = sum(len(p.tracks) for p in parts) * max(lasts, 1e-9)
    stopped = threading.Event()

    def write(place: int) -> None:
        def tell(second: float) -> None:
            if stopped.is_set():
                raise _Stopped
            done[place] = len(parts[place].tracks) * second

        _write(parts[place], lasts, subtype, tell)

    with ThreadPoolExecutor(threads) as pool:
        waiting = [pool.submit(write, place) for place in range(len(parts))]
        try:
            while waiting:
                finished, _ = wait(waiting, timeout=_LOOK, return_when=FIRST_EXCEPTION)
                for one in finished:
                    one.result()
                waiting = [w for w in waiting if w not in finished]
                progress(min(1.0, sum(done) / total))
        except BaseException:
            stopped.set()
            for one in waiting:
                one.cancel()
            raise
    return lasts


class _Stopped(Exception):
    """Raised in a thread whose work is not wanted any more."""


def _write(group: GroupToWrite, seconds: float, subtype: str, progress: Progress) -> None:
    sources: list[SampleSource] = [Hushed(FileSource(t.source), t.hushes) for t in group.tracks]
    together = Together(sources)
    rate, frames = together.rate, round(seconds * together.rate)
    partial = [t.out.with_suffix(".partial") for t in group.tracks]
    with ExitStack() as stack:
        files = []
        for path, source in zip(partial, sources, strict=True):
            kind = "RF64" if frames * source.channels * 4 > _LARGE else "WAV"
            file = sf.SoundFile(path, "w", rate, source.channels, SUBTYPES[subtype], format=kind)
            files.append(stack.enter_context(file))
        done = 0
        for block in rendered(together, group.warp, group.engine, group.attacks, 0, frames):
            for file, channels in zip(files, together.split(block), strict=True):
                file.write(channels)
            done += len(block)
            progress(done / rate)
    for path, track in zip(partial, group.tracks, strict=True):
        path.replace(track.out)
