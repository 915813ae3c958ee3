"""The lessons: what the learned ear is shown of each made-up performance, and what it should say.

``python -m training.lessons FOLDER FIRST COUNT`` makes lessons number ``FIRST`` onwards.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from multiprocessing import Pool
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from core.beats import bars, fusion
from core.listening.spectrum import FRAME_RATE
from training.compose import Performance, compose
from training.sound import Stage, record

#: Seconds on either side of a beat within which the network should hear it.
WIDTH = 0.045
#: Pitch classes are kept in small numbers of 16 bits: large enough to be exact in them.
CHROMA = 1000


@dataclass(frozen=True)
class Times:
    """``beats`` in seconds; ``first`` says which open a bar. Before ``lead`` and after ``over`` (seconds) nothing is to
    be heard; between ``lead`` and the first beat anything may."""

    beats: NDArray[np.float64]
    first: NDArray[np.bool_]
    lead: float
    over: float


@dataclass(frozen=True)
class Lesson:
    """What the tracker has of a performance (see :func:`core.beats.features.features`), and its true times."""

    curve: NDArray[np.float64]
    mix: bars.Mix
    times: Times


def lesson(performance: Performance, stage: Stage, seed: int) -> Lesson:
    players, guides = record(stage, performance, seed)
    ranks = fusion.rank(players, guides)
    mix = bars.Mix.of(players)
    curve = fusion.fuse(players, ranks)
    late = lateness(curve, performance)
    times = Times(performance.beats + late, performance.first, performance.lead, performance.over)
    return Lesson(curve, mix, times)


def lateness(curve: NDArray[np.float64], performance: Performance) -> float:
    """How many seconds after its start a note of this take is heard to start.

    A sampled bow needs time to speak; but the beat is to be learned where attacks begin. Of a strum only the first
    string counts, so that the beat stays in its middle.
    """
    starts = []
    for _, _, notes in performance.tracks:
        own = np.sort([n.start for n in notes])
        starts.append(own[np.diff(own, prepend=-1.0) > 0.06])
    at = np.round(np.concatenate(starts) * FRAME_RATE).astype(int)
    lags = np.arange(-1, 8)
    heard = np.array([curve[np.clip(at + k, 0, len(curve) - 1)].mean() for k in lags])
    k = int(np.clip(np.argmax(heard), 1, len(lags) - 2))
    bend = heard[k - 1] - 2 * heard[k] + heard[k + 1]
    between = 0.5 * (heard[k - 1] - heard[k + 1]) / bend if bend < 0 else 0.0
    return float((lags[k] + np.clip(between, -0.5, 0.5)) / FRAME_RATE)


def targets(of: Times, at: NDArray[np.float64]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """What the network should say at the times ``at`` (seconds), ``(2, steps)``; where that counts, ``(steps,)``."""
    out = []
    for times in (of.beats, of.beats[of.first]):
        k = np.clip(np.searchsorted(times, at), 1, len(times) - 1)
        away = np.minimum(np.abs(at - times[k - 1]), np.abs(times[k] - at))
        out.append(np.maximum(0, 1 - away / WIDTH))
    beat = float(of.beats[-1] - of.beats[-2])
    known = (at < of.lead - 0.1) | ((at > of.beats[0] - 0.1) & (at < of.beats[-1] + 0.4 * beat))
    return np.stack(out).astype(np.float32), (known | (at > of.over + 0.5 * beat)).astype(np.float32)


_stage: list[Stage] = []


def _make(job: tuple[Path, int]) -> None:
    folder, seed = job
    path = folder / f"{seed:06d}.npz"
    if path.exists():
        return
    if not _stage:
        _stage.append(Stage())
    made = lesson(compose(seed), _stage[0], seed)
    partial = path.with_suffix(".partial")
    with partial.open("wb") as f:
        np.savez(
            f,
            curve=made.curve.astype(np.float16),
            flux=made.mix.flux.astype(np.float16),
            energy=made.mix.energy.astype(np.float16),
            chroma=(CHROMA * made.mix.chroma).astype(np.float16),
            **vars(made.times),
        )
    partial.replace(path)


def make(folder: Path, first: int, count: int) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    with Pool() as pool:
        for done, _ in enumerate(pool.imap_unordered(_make, [(folder, k) for k in range(first, first + count)]), 1):
            if done % 100 == 0:
                print(done, "lessons", flush=True)


def read(path: Path) -> Lesson:
    with np.load(path) as d:
        mix = bars.Mix(*(d[k].astype(np.float32) / by for k, by in (("flux", 1), ("energy", 1), ("chroma", CHROMA))))
        times = Times(d["beats"], d["first"], float(d["lead"]), float(d["over"]))
        return Lesson(d["curve"].astype(np.float64), mix, times)


if __name__ == "__main__":
    make(Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]))
