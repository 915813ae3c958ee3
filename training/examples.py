"""The examples a network learns from or is judged on: what is seen of each performance, and its true times.

``python -m training.examples FOLDER FIRST COUNT [--evaluation] [--processes N]`` makes examples number ``FIRST`` on.
What is there already is not made again, so that an interrupted run goes on where it stopped.
"""

from __future__ import annotations

import argparse
import traceback
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from multiprocessing import Pool
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.listening.spectrum import evidence
from core.listening.track import as_loud_as_usual
from training import accompaniment, heavy
from training.compose import Performance, compose
from training.performing import perform
from training.recording import Instruments, record
from training.score import Score, is_for_evaluation, load

#: Levels are kept in bytes, so many steps a neper.
STEPS = 32
#: Kinds of repertoire, and how often each comes.
KINDS = {"accompaniment": 0.36, "heavy": 0.16, "composed": 0.14, "tune": 0.12, "choir": 0.05, "invented": 0.17}
#: More tracks than this are not kept one by one.
MOST = 6


@cache
def repertoire(folder: Path, evaluation: bool) -> dict[str, list[Path]]:
    """Prepared scores by kind (see :mod:`training.repertoire`), either those for learning or those for evaluation."""
    out: dict[str, list[Path]] = {}
    for path in sorted(folder.glob("*/*.json")):
        if is_for_evaluation(path.stem) == evaluation:
            out.setdefault(path.parent.name, []).append(path)
    return out


def performance(seed: int, scores: Path, evaluation: bool) -> tuple[str, Performance, bool]:
    """``(source, performance, whether its bar lines are known)`` of example number ``seed``."""
    rng = np.random.default_rng(20_000_000 + seed)
    kind = str(rng.choice(list(KINDS), p=np.array(list(KINDS.values())) / sum(KINDS.values())))
    own_seed = seed + (500_000_000 if evaluation else 0)
    length = float(rng.uniform(34, 52)) if not evaluation else float(rng.uniform(60, 110))
    found: Score | None = None
    if kind == "accompaniment":
        names = [f for f in accompaniment.families() if is_for_evaluation(f) == evaluation]
        while found is None:
            found = accompaniment.score(own_seed, str(rng.choice(names)))
            own_seed += 1_000_000
    elif kind == "heavy":
        found = heavy.score(own_seed)
    elif kind != "invented":
        prepared = repertoire(scores, evaluation)
        found = load(prepared[kind][int(rng.integers(len(prepared[kind])))])
    if found is None:
        return f"invented{own_seed}", compose(1_000_000 + own_seed), True
    return found.source, perform(found, own_seed, length), found.bars_known


@dataclass(frozen=True)
class Example:
    """``tracks``: per track its bands and pitches in bytes, the finished mix first. Times in seconds; before ``lead``
    and after ``over`` nothing is to be found; between ``lead`` and the first beat anything may be."""

    tracks: list[tuple[NDArray[np.uint8], NDArray[np.uint8]]]
    beats: NDArray[np.float64]
    first: NDArray[np.bool_]
    lead: float
    over: float
    bars_known: bool


def lateness(flux: NDArray[np.float32], made: Performance) -> float:
    """How many seconds after its start a note of this take is usually heard: bows and pads need time to speak, and a
    beat is to be found where attacks are."""
    starts = []
    for _, _, notes in made.tracks:
        own = np.sort([n.start for n in notes])
        starts.append(own[np.diff(own, prepend=-1.0) > 0.06])
    at = np.concatenate(starts) * FRAME_RATE
    curve = np.minimum(flux.sum(axis=1), np.percentile(flux.sum(axis=1), 98))
    lags = np.arange(-1, 8)
    heard = np.array([np.interp(at + k, np.arange(len(curve)), curve).mean() for k in lags])
    k = int(np.clip(np.argmax(heard), 1, len(lags) - 2))
    bend = heard[k - 1] - 2 * heard[k] + heard[k + 1]
    between = 0.5 * (heard[k - 1] - heard[k + 1]) / bend if bend < 0 else 0.0
    # flux peaks about a frame after the attack it comes from
    return float(max(0.0, lags[k] + np.clip(between, -0.5, 0.5) - 1.0) / FRAME_RATE)


def seen(x: NDArray[np.float32]) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
    """Bands and pitches of a track, in bytes."""

    def packed(levels: NDArray[np.float32]) -> NDArray[np.uint8]:
        return np.clip(np.round(levels * STEPS), 0, 255).astype(np.uint8)

    found = evidence([as_loud_as_usual(x)])
    return packed(found.bands.astype(np.float32)), packed(found.pitches.astype(np.float32))


_stage: list[Instruments] = []


def _make(job: tuple[Path, Path, int, bool]) -> str:
    folder, scores, seed, evaluation = job
    path = folder / f"{seed:06d}.npz"
    if path.exists():
        return ""
    if not _stage:
        _stage.append(Instruments(evaluation))
    try:
        source, made, known = performance(seed, scores, evaluation)
        tracks, mix = record(_stage[0], made, seed + (500_000_000 if evaluation else 0))
    except Exception:  # a script for developers: told, and gone on without this example
        return f"{seed}: {traceback.format_exc(limit=-3)}"
    # at one loudness, roughly that of files
    mix = mix * np.float32(0.08)
    late = lateness(evidence([mix]).flux, made)
    arrays = {}
    for k, x in enumerate([mix, *tracks[:MOST]]):
        arrays[f"bands{k}"], arrays[f"pitches{k}"] = seen(x)
    partial = path.with_suffix(".partial")
    with partial.open("wb") as f:
        np.savez(
            f,
            beats=made.beats + late,
            first=made.first,
            lead=made.lead,
            over=made.over,
            bars_known=known,
            source=source,
            **arrays,
        )
    partial.replace(path)
    return ""


def read(path: Path) -> Example:
    with np.load(path) as d:
        count = sum(k.startswith("bands") for k in d.files)
        tracks = [(d[f"bands{k}"], d[f"pitches{k}"]) for k in range(count)]
        return Example(tracks, d["beats"], d["first"], float(d["lead"]), float(d["over"]), bool(d["bars_known"]))


def make_all(make: Callable[[tuple[Path, Path, int, bool]], str], description: str | None) -> None:
    """Run ``make`` for every number that the command line asks for, several at a time, and tell what it says."""
    ask = argparse.ArgumentParser(description=description)
    ask.add_argument("folder", type=Path)
    ask.add_argument("first", type=int)
    ask.add_argument("count", type=int)
    ask.add_argument("--scores", type=Path, default=Path("build/scores"))
    ask.add_argument("--evaluation", action="store_true")
    ask.add_argument("--processes", type=int, default=2)
    a = ask.parse_args()
    a.folder.mkdir(parents=True, exist_ok=True)
    jobs = [(a.folder, a.scores, k, a.evaluation) for k in range(a.first, a.first + a.count)]
    with Pool(a.processes, maxtasksperchild=100) as pool:
        for done, told in enumerate(pool.imap_unordered(make, jobs), 1):
            if told:
                print(told, flush=True)
            if done % 20 == 0:
                print(done, "made", flush=True)


if __name__ == "__main__":
    make_all(_make, __doc__)
