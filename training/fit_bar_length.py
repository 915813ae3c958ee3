"""Fits how likely it is that bars have another number of beats than those that were found."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from core.tracking.beat_tracker import track_beats
from core.tracking.doubts.bar_evidence import length_features
from core.tracking.parameters import fitted, write_fitted
from training.over_takes import f_measure, of_all
from training.regression import logistic, probability
from training.takes import NOT_SURROUNDED, read

#: Where beats are less right than this, bars cannot be judged; so where there are fewer of them.
_BEATS_RIGHT, _FEWEST_BARS = 0.9, 6


def length_data(path: Path) -> list[tuple[float, ...]]:
    """What tells of the length of a take's bars, and last whether it is wrong, as tracks and as mix."""
    take, out = read(path), []
    for tracks in (take.tracks, take.mix) if len(take.downbeats) else ():
        try:
            found = track_beats(tracks)
        except ValueError:
            continue
        division = found.candidate.division
        judged = not found.pieces and f_measure(take, found.map.beats().seconds) > _BEATS_RIGHT
        if judged and division.beats > 1 and len(division.downbeats) >= _FEWEST_BARS:
            true = int(np.bincount(np.diff(np.flatnonzero(np.isin(take.beats, take.downbeats)))).argmax())
            features = length_features(division, found.candidate.evidence)
            out.append((*features.values(), float(true != division.beats)))
    return out


def fit_bar_length(fit: Path, judge: Path) -> None:
    own, others = (np.array(of_all(folder, length_data, NOT_SURROUNDED)) for folder in (fit, judge))
    # every feature can only speak for a length, never against it
    weights = logistic(own[:, :-1], own[:, -1], most=0.0)
    write_fitted("bar length", dict(zip(fitted("bar length"), weights, strict=True)))
    for name, rows in (("fit", own), ("evaluation", others)):
        p, wrong = probability(weights, rows[:, :-1]), rows[:, -1] > 0
        for at in (0.15, 0.2, 0.25, 0.3, 0.35, 0.4):
            told = p >= at
            print(f"bar length, {name}, at {at}: {wrong.sum()} of {len(wrong)} wrong, {told.sum()} told, ", end="")
            print(f"{(told & wrong).sum()} of them wrong")
