"""Whether confidence keeps its word and doubts find the mistakes: reliability curve, doubt recall and precision."""

import numpy as np

WRONG = 0.07


def rightness(times: np.ndarray, truth: np.ndarray) -> np.ndarray:
    """For each beat found whether a true beat lies within 70 ms."""
    return np.abs(times[:, None] - truth[None, :]).min(axis=1) <= WRONG


def doubts(solution, truth: np.ndarray) -> tuple[int, int, int, int]:
    """Wrong places inside a doubt, wrong places in all, doubts that are real, doubts in all.

    Wrong places are beats found where there is none and true beats that were missed. A doubt is real when a
    wrong place lies in it. Doubts about counting and bars (level, meter, downbeat, end) are left out of
    precision: a wrong beat does not decide them.
    """
    found = solution.map.beats().seconds
    found = found[(found > truth[0] - 0.07) & (found < truth[-1] + 0.07)]
    wrong = np.concatenate([found[~rightness(found, truth)], truth[~rightness(truth, found)]])
    spans = [(d.start, d.end) for d in solution.doubts]
    caught = sum(any(a <= t <= b for a, b in spans) for t in wrong)
    local = [d for d in solution.doubts if d.kind not in ("level", "meter", "downbeat", "end")]
    local = [d for d in local if d.end > truth[0] and d.start < truth[-1]]
    real = sum(any(d.start <= t <= d.end for t in wrong) for d in local)
    return caught, len(wrong), real, len(local)


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
