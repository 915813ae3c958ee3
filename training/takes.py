"""Whole takes with known beats, as the tracker gets them: for fitting constants and for judging, never for learning.

``python -m training.takes FOLDER FIRST COUNT`` makes takes from the repertoire and the sounds that the network learns
from, of seeds that it does not: constants are fitted on these. With ``--evaluation`` repertoire and sounds are others,
which nothing was fitted to: numbers are reported from these. Every take is kept as its tracks and as a finished mix.
Takes from number 1000 on have talk, applause or silence around the music.
"""

from __future__ import annotations

import traceback
from dataclasses import dataclass, fields
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from core.listening import attacks
from core.listening.attacks import Attacks
from core.listening.rates import FRAME_RATE
from core.listening.spectrum import Evidence, evidence
from core.listening.track import AnalysedTrack, as_loud_as_usual
from training.examples import lateness, make_all, performance
from training.recording import Instruments, record
from training.surroundings import surrounded

#: Seeds from here on are not used for learning.
FIRST_SEED = 400_000
#: Takes from this number on are recorded with what is before the music and after it.
SURROUNDED = 1000
#: The names of the others.
NOT_SURROUNDED = "0*"


@dataclass(frozen=True)
class Take:
    """``tracks`` or the ``mix`` alone, as the tracker gets them; ``beats`` and ``downbeats`` in seconds, the latter
    empty where bar lines are not known. ``drums``: whether somebody drums."""

    name: str
    source: str
    drums: bool
    tracks: list[AnalysedTrack]
    mix: list[AnalysedTrack]
    beats: NDArray[np.float64]
    downbeats: NDArray[np.float64]


_stage: list[Instruments] = []


def _make(job: tuple[Path, Path, int, bool]) -> str:
    folder, scores, number, evaluation = job
    path = folder / f"{number:04d}.npz"
    if path.exists():
        return ""
    if not _stage:
        _stage.append(Instruments(evaluation))
    seed = FIRST_SEED + number
    try:
        source, made, known = performance(seed, scores, evaluation)
        tracks, mix = record(_stage[0], made, seed)
        later = 0.0
        if number >= SURROUNDED:
            tracks, mix, later = surrounded(np.random.default_rng(13_000_000 + seed), tracks[:10], mix, evaluation)
    except Exception:  # a script for developers: told, and gone on without this take
        return f"{number}: {traceback.format_exc(limit=-3)}"
    mix = mix * np.float32(0.08)
    arrays: dict[str, NDArray] = {}
    for k, x in enumerate([mix, *tracks[:10]]):
        x = as_loud_as_usual(x)
        found = evidence([x])
        hits = attacks.find_attacks(x, found)
        arrays |= {f"{k}/{f.name}": np.asarray(getattr(found, f.name), dtype=np.float16) for f in fields(Evidence)}
        arrays |= {f"{k}/{f.name}": getattr(hits, f.name) for f in fields(Attacks)}
        if k == 0:
            late = later + lateness(found.flux[round(later * FRAME_RATE) :], made)
    partial = path.with_suffix(".partial")
    with partial.open("wb") as f:
        np.savez(
            f,
            source=source,
            drums=any(p < 0 for _, p, _ in made.tracks),
            beats=made.beats + late,
            downbeats=made.beats[made.first] + late if known else np.zeros(0),
            **arrays,
        )
    partial.replace(path)
    return ""


def read(path: Path) -> Take:
    with np.load(path) as d:
        kept = dict(d)
    players = []
    kinds = {f.name: np.float16 if f.name in ("bands", "pitches") else np.float32 for f in fields(Evidence)}
    for k in range(sum(n.endswith("/flux") for n in kept)):
        found = Evidence(**{n: kept[f"{k}/{n}"].astype(kind) for n, kind in kinds.items()})
        players.append(
            AnalysedTrack(
                f"track {k}" if k else "mix", found, Attacks(*(kept[f"{k}/{f.name}"] for f in fields(Attacks)))
            )
        )
    return Take(
        path.stem, str(kept["source"]), bool(kept["drums"]), players[1:], players[:1], kept["beats"], kept["downbeats"]
    )


if __name__ == "__main__":
    make_all(_make, __doc__)
