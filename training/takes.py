"""Whole takes with known beats, as the tracker gets them: for fitting constants and for judging, never for learning.

``python -m training.takes FOLDER FIRST COUNT`` makes takes from the repertoire and the sounds that the network learns
from, of seeds that it does not: constants are fitted on these. With ``--evaluation`` repertoire and sounds are others,
which nothing was fitted to: numbers are reported from these. Every take is kept as its tracks and as a finished mix.
Takes from number 1000 on have talk, applause or silence around the music, those from 2000 on two pieces each; in those
from 3000 on the meter or the tempo changes.
"""

from __future__ import annotations

import traceback
from dataclasses import dataclass, fields, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from core.listening import attacks
from core.listening.attacks import Attacks
from core.listening.spectrum import Evidence, evidence
from core.listening.track import AnalysedTrack, as_loud_as_usual
from training.changes import Rng, with_a_change
from training.examples import lateness, make_all, performance
from training.recording import Instruments, record
from training.surroundings import one_after_the_other, surrounded

#: Seeds from here on are not used for learning.
FIRST_SEED = 400_000
#: Takes from this number on are recorded with what is before the music and after it.
SURROUNDED = 1000
#: Takes from this number on are two pieces one after the other.
TWO_PIECES = 2000
#: Takes from this number on are one piece in which the meter or the tempo changes.
CHANGING = 3000
#: The names of takes with nothing around the music, and of all with one piece.
NOT_SURROUNDED, ONE_PIECE = "0*", "[01]*"
#: The seed of a second piece is so much higher than that of the first.
_SECOND = 50_000


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

    @property
    def pieces(self) -> list[tuple[float, float]]:
        """The first and the last true beat of each piece, in seconds."""
        cuts = [int(np.diff(self.beats).argmax()) + 1] if TWO_PIECES <= int(self.name) < CHANGING else []
        return [(float(part[0]), float(part[-1])) for part in np.split(self.beats, cuts)]


_stage: list[Instruments] = []


@dataclass(frozen=True)
class _Recorded:
    """A take as it sounds: ``sound``, its tracks and last the mix, all equally long."""

    source: str
    drums: bool
    sound: list[NDArray[np.float32]]
    beats: NDArray[np.float64]
    downbeats: NDArray[np.float64]

    def later(self, sound: list[NDArray[np.float32]], by: float) -> _Recorded:
        return replace(self, sound=sound, beats=self.beats + by, downbeats=self.downbeats + by)

    def followed_by(self, other: _Recorded, sound: list[NDArray[np.float32]], later: float) -> _Recorded:
        known = len(self.downbeats) and len(other.downbeats)
        return _Recorded(
            f"{self.source}, then {other.source}",
            self.drums or other.drums,
            sound,
            np.concatenate([self.beats, other.beats + later]),
            np.concatenate([self.downbeats, other.downbeats + later]) if known else np.zeros(0),
        )


def _piece(stage: Instruments, seed: int, scores: Path, evaluation: bool, change: Rng | None = None) -> _Recorded:
    source, made, known = performance(seed, scores, evaluation)
    if change:
        made, what = with_a_change(change, made)
        source = f"{source}, {what}"
    tracks, mix = record(stage, made, seed)
    mix = mix * np.float32(0.08)
    late = lateness(evidence([as_loud_as_usual(mix)]).flux, made)
    beats = made.beats + late
    drums = any(p < 0 for _, p, _ in made.tracks)
    return _Recorded(source, drums, [*tracks[:10], mix], beats, beats[made.first] if known else beats[:0])


def _make(job: tuple[Path, Path, int, bool]) -> str:
    folder, scores, number, evaluation = job
    path = folder / f"{number:04d}.npz"
    if path.exists():
        return ""
    if not _stage:
        _stage.append(Instruments(evaluation))
    seed = FIRST_SEED + number
    rng = np.random.default_rng(13_000_000 + seed)
    try:
        take = _piece(_stage[0], seed, scores, evaluation, rng if number >= CHANGING else None)
        if TWO_PIECES <= number < CHANGING:
            other = _piece(_stage[0], seed + _SECOND, scores, evaluation)
            sound, later = one_after_the_other(rng, take.sound, other.sound, evaluation)
            take = take.followed_by(other, sound, later)
        elif SURROUNDED <= number < TWO_PIECES:
            sound, later = surrounded(rng, take.sound, evaluation)
            take = take.later(sound, later)
    except Exception:  # a script for developers: told, and gone on without this take
        return f"{number}: {traceback.format_exc(limit=-3)}"
    arrays: dict[str, NDArray] = {}
    for k, x in enumerate([take.sound[-1], *take.sound[:-1]]):
        x = as_loud_as_usual(x)
        found = evidence([x])
        hits = attacks.find_attacks(x, found)
        arrays |= {f"{k}/{f.name}": np.asarray(getattr(found, f.name), dtype=np.float16) for f in fields(Evidence)}
        arrays |= {f"{k}/{f.name}": getattr(hits, f.name) for f in fields(Attacks)}
    partial = path.with_suffix(".partial")
    with partial.open("wb") as f:
        np.savez(
            f,
            source=take.source,
            drums=take.drums,
            beats=take.beats,
            downbeats=take.downbeats,
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
