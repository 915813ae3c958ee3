"""Whether confidence keeps its word and doubts find the mistakes: reliability curve, doubt recall and precision."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from core.listening.track import AnalysedTrack
from core.tracking.context import build_context
from core.tracking.results import TrackingResult
from core.tracking.review import review

WRONG = 0.07
#: Doubts about which beats open a bar: they tell nothing of wrong beats.
ABOUT_LINES = ("downbeat", "bar lines", "bar length")
#: Doubts that tell of wrong beats, too, but may be right without any. An odd bar may have a beat too many.
UNDECIDED = ("level", "end", "meter", "new meter", "pause")
ABOUT_BARS = (*ABOUT_LINES, "meter", "new meter")


def reviewed(tracks: list[AnalysedTrack], found: TrackingResult) -> TrackingResult:
    """What was found, with confidence and doubts as the page shows them: from a review of the map."""
    confidence, left = review(build_context(tracks), found.map, chains=found.chains, pieces=found.pieces)
    return replace(found, confidence=confidence, doubts=left)


def rightness(times: np.ndarray, truth: np.ndarray) -> np.ndarray:
    """For each beat found whether a true beat lies within 70 ms."""
    return np.abs(times[:, None] - truth[None, :]).min(axis=1) <= WRONG


#: The first and the last true beat of each piece of music in a recording, in seconds.
Pieces = Sequence[tuple[float, float]]


def in_music(times: np.ndarray, pieces: Pieces) -> np.ndarray:
    """Those of some times that lie in a piece: before, between and after pieces nothing is to be found."""
    return times[np.any([(times > first - WRONG) & (times < last + WRONG) for first, last in pieces], axis=0)]


def doubts(solution, truth: np.ndarray, pieces: Pieces) -> tuple[int, int, int, int]:
    """Wrong places inside a doubt that tells of beats, wrong places in all, doubts that are real, doubts in all.

    Wrong places are beats found where there is none and true beats that were missed. A doubt is real when a
    wrong place lies in it; those about the level, the end and odd bars are left out of that.
    """
    about = [d for d in solution.doubts if d.kind not in ABOUT_LINES]
    decided = [d for d in about if d.kind not in UNDECIDED]
    return _told(in_music(solution.map.beats().seconds, pieces), truth, about, decided)


def bar_doubts(solution, truth: np.ndarray, pieces: Pieces) -> tuple[int, int, int, int]:
    """The same of bar lines; any doubt may tell of a wrong one. ``truth``: downbeats."""
    found = solution.map.beats()
    decided = [d for d in solution.doubts if d.kind in ABOUT_BARS]
    return _told(in_music(found.seconds[found.beat == 1], pieces), truth, solution.doubts, decided)


def _told(found: np.ndarray, truth: np.ndarray, tell, decided) -> tuple[int, int, int, int]:
    """``tell``: doubts in which a wrong place is told; ``decided``: those that a wrong place makes real."""
    found = found[(found > truth[0] - WRONG) & (found < truth[-1] + WRONG)]
    wrong = np.concatenate([found[~rightness(found, truth)], truth[~rightness(truth, found)]]) if len(found) else truth
    decided = [d for d in decided if d.end > truth[0] and d.start < truth[-1]]
    caught = sum(any(d.start <= t <= d.end for d in tell) for t in wrong)
    real = sum(any(d.start <= t <= d.end for t in wrong) for d in decided)
    return caught, len(wrong), real, len(decided)


def curve(pairs: list[tuple[float, bool]]) -> None:
    """Print how often beats of each confidence are right."""
    sure = np.array([p for p, _ in pairs])
    right = np.array([r for _, r in pairs])
    print("\nconfidence   beats   right")
    for lo, hi in ((0, 0.3), (0.3, 0.5), (0.5, 0.7), (0.7, 0.85), (0.85, 0.95), (0.95, 1.001)):
        here = (sure >= lo) & (sure < hi)
        if here.any():
            print(
                f"{lo:.2f}-{min(hi, 1):.2f}    {here.sum():6d}   {right[here].mean():.3f}   (mean confidence {sure[here].mean():.3f})"
            )
