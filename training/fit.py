"""Fits the tracker's constants on made-up takes that the network has not learned from.

``python -m training.fit hypotheses|bars|confidence|doubts FIT EVALUATION``: the first folder holds takes to fit on, the
second takes to measure on. Writes the constants into `core/beats/fitted.json` and prints what they change.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import mir_eval
import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

from core.beats import bars, certainty, doubts, look, solve, whole_take
from core.beats.fitted import fitted, keep
from core.beats.hypothesis import USUAL_RANGE, WEIGHTS, score_hypothesis
from core.beats.solve import Wishes
from core.beats.solve import hypotheses as all_hypotheses
from core.listening.spectrum import FRAME_RATE
from training.takes import Take, read

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Choice:
    """One take's tempo hypotheses: ``numbers`` of each ``(hypotheses, numbers)`` and how right each is (F, 70 ms)."""

    name: str
    drums: bool
    numbers: Floats
    right: Floats


def f_measure(take: Take, seconds: Floats, window: float = 0.07) -> float:
    inside = (seconds > take.beats[0] - 0.07) & (seconds < take.beats[-1] + 0.07)
    return float(mir_eval.beat.f_measure(take.beats, seconds[inside], window)) if inside.any() else 0.0


def _choices(path: Path) -> list[Choice]:
    take = read(path)
    out = []
    for kind, players in (("tracks", take.tracks), ("mix", take.mix)):
        try:
            hypotheses = all_hypotheses(look(players), Wishes())
        except ValueError:
            continue
        numbers = np.array([[h.numbers[n] for n in WEIGHTS] for h in hypotheses])
        right = np.array([f_measure(take, h.frames / FRAME_RATE) for h in hypotheses])
        out.append(Choice(f"{take.name} {kind} {take.source}", take.drums, numbers, right))
    return out


def choices(folder: Path) -> list[Choice]:
    with ProcessPoolExecutor(2) as pool:
        return [c for some in pool.map(_choices, sorted(folder.glob("*.npz"))) for c in some]


def chosen(of: Iterable[Choice], weights: Floats) -> tuple[float, float]:
    """Mean F of the hypotheses that the weights choose, and of the best there are."""
    got = [(c.right[int(np.argmax(c.numbers @ weights))], c.right.max()) for c in of] or [(np.nan, np.nan)]
    first, best = np.mean(got, axis=0).tolist()
    return first, best


def fit_hypotheses(of: list[Choice], strength: float = 0.02) -> Floats:
    """Weights by conditional logit (McFadden 1974): the right hypotheses of a take are the likeliest among its own.
    ``strength`` of the pull towards nothing, in units of each number's spread."""
    spread = np.concatenate([c.numbers - c.numbers.mean(axis=0) for c in of]).std(axis=0) + 1e-6
    use = [c for c in of if c.right.max() > 0.8 and np.ptp(c.right) > 0.1]
    wanted = [np.where(c.right > c.right.max() - 0.03, 1.0, 0.0) for c in use]

    def loss(w: Floats) -> tuple[float, Floats]:
        total, slope = strength * len(use) * float(w @ w) / 2, strength * len(use) * w
        for c, right in zip(use, wanted, strict=True):
            x = c.numbers / spread
            score = x @ w
            p = np.exp(score - score.max())
            p /= p.sum()
            q = p * right
            total -= float(np.log(q.sum() + 1e-12))
            slope = slope + x.T @ (p - q / (q.sum() + 1e-12))
        return total, slope

    found = minimize(loss, np.zeros(len(spread)), jac=True, method="L-BFGS-B")
    return np.asarray(found.x / spread)


def evidence_of(path: Path) -> list[tuple[Floats, Floats, Floats, bool, Floats, Take]]:
    """Per take, as tracks and as mix: the players' downbeat evidence, the activation's, likeness, whether beats divide
    in three, and which beats open a bar."""
    take = read(path)
    out = []
    for players in (take.tracks, take.mix) if len(take.downbeats) else ():
        try:
            scene = look(players)
        except ValueError:
            continue
        frames = np.round(take.beats * FRAME_RATE).astype(np.int64)
        frames = frames[frames < len(scene.curve) - 2]
        if len(frames) < 16:
            continue
        shown = bars.players_evidence(scene.players, scene.mix, frames)
        first = bars.activation_evidence(scene.ear, frames)
        ternary = score_hypothesis(scene.curve, frames, *USUAL_RANGE).ternary
        down = np.isin(take.beats[: len(frames)], take.downbeats)
        out.append((shown, first, bars.repetition(scene.mix, frames), ternary, down, take.drums))
    return out


def evidences(folder: Path) -> list[tuple]:
    with ProcessPoolExecutor(2) as pool:
        return [e for some in pool.map(evidence_of, sorted(folder.glob("*.npz"))) for e in some]


def divided(e: tuple, shown: float, activation: float, odd: float) -> Choice:
    own, first, likeness, ternary, down, drums = e
    found = bars.divisions(shown * own + activation * first, likeness, None, ternary, odd)
    true = np.flatnonzero(down)
    right = [2 * len(np.intersect1d(true, b.downbeats)) / max(1, len(true) + len(b.downbeats)) for b in found]
    kinds = [bars.kind(b.beats, ternary) for b in found]
    numbers = [
        [*(b.numbers[n] for n in bars.WORTH), *(float(k == name) for name in bars.USUAL)]
        for b, k in zip(found, kinds, strict=True)
    ]
    return Choice("", drums, np.array(numbers), np.array(right))


def fit_bars(of: list[tuple], judge: list[tuple]) -> None:
    best = None
    for shown in (0.0, 0.3, 0.6, 1.0):
        for odd in (4.0, 7.0, 10.0, 14.0, 20.0):
            made = [divided(e, shown, 1.0, odd) for e in of]
            weights = fit_hypotheses(made, 0.02)
            got, most = chosen(made, weights)
            seen, best_seen = chosen([divided(e, shown, 1.0, odd) for e in judge], weights)
            print(f"shown {shown}, odd {odd}: {got:.4f} of {most:.4f}, evaluation {seen:.4f} of {best_seen:.4f}")
            if best is None or got > best[0]:
                best = got, shown, odd, weights
    assert best is not None
    _, shown, odd, weights = best
    print("best: shown", shown, "odd bar", odd)
    keep("downbeats", {"odd bar": odd, "shown": shown})
    keep("bars", dict(zip(bars.WORTH, weights, strict=False)))
    keep("meters", dict(zip(bars.USUAL, weights[len(bars.WORTH) :], strict=True)))


def _sure(path: Path) -> list[tuple[Floats, NDArray[np.bool_], bool]]:
    take = read(path)
    out = []
    for players in (take.tracks, take.mix):
        try:
            found = solve(players)
        except ValueError:
            continue
        seconds = found.map.beats().seconds
        inside = (seconds > take.beats[0] - 0.07) & (seconds < take.beats[-1] + 0.07)
        right = np.abs(seconds[:, None] - take.beats[None, :]).min(axis=1) < 0.07
        out.append((found.numbers[inside], right[inside], take.drums))
    return out


def sureness(folder: Path) -> list[tuple]:
    with ProcessPoolExecutor(2) as pool:
        return [s for some in pool.map(_sure, sorted(folder.glob("*.npz"))) for s in some]


def fit_confidence(of: list[tuple], strength: float = 1.0) -> Floats:
    """Logistic regression; every take counts alike."""
    x = np.concatenate([s[0] for s in of])
    y = np.concatenate([s[1] for s in of]).astype(float)
    weight = np.concatenate([np.full(len(s[1]), 1 / max(1, len(s[1]))) for s in of])
    spread = x.std(axis=0) + 1e-6
    spread[0] = 1.0

    def loss(w: Floats) -> tuple[float, Floats]:
        z = (x / spread) @ w
        p = 1 / (1 + np.exp(-z))
        total = -float(
            (weight * (y * np.log(p + 1e-9) + (1 - y) * np.log(1 - p + 1e-9))).sum()
        ) + strength * 0.01 * float(w @ w)
        return total, (x / spread).T @ (weight * (p - y)) + strength * 0.02 * w

    return np.asarray(minimize(loss, np.zeros(x.shape[1]), jac=True, method="L-BFGS-B").x / spread)


def reliability(of: list[tuple], weights: Floats) -> None:
    x = np.concatenate([s[0] for s in of])
    y = np.concatenate([s[1] for s in of])
    p = 1 / (1 + np.exp(-(x @ weights)))
    for lo, hi in ((0, 0.3), (0.3, 0.5), (0.5, 0.7), (0.7, 0.85), (0.85, 0.95), (0.95, 0.99), (0.99, 1.01)):
        own = (p >= lo) & (p < hi)
        if own.any():
            print(f"  {lo:.2f} to {hi:.2f}: {own.sum()} beats, said {p[own].mean():.3f}, right {y[own].mean():.3f}")


def _doubted(path: Path) -> list[tuple]:
    """Per take, as tracks and as mix: margin and agreement, whether the tempo is wrong; by how much downbeats stand
    out, whether they are wrong; the same of windows of bars."""
    take = read(path)
    out = []
    for players in (take.tracks, take.mix):
        try:
            found = solve(players)
        except ValueError:
            continue
        best, laid = found.hypotheses[0], found.laid
        beats = found.map.beats()
        right = f_measure(take, beats.seconds)
        level = (certainty.margin(best, found.hypotheses[1:]), best.numbers.get("agreement", 0.0), right < 0.8)
        bar, windows = None, []
        downs, main = laid.division.downbeats, laid.division.beats
        if len(take.downbeats) and right > 0.9 and main > 1 and len(downs) > 6:
            seconds = laid.map.beats().seconds
            true = np.abs(seconds[downs][:, None] - take.downbeats[None, :]).min(axis=1) < 0.07
            bar = (float(whole_take.gaps(downs, main, laid.evidence).min()), float(true.mean()) < 0.5)
            for k in range(0, len(downs) - doubts.SPAN + 1, 2):
                part = downs[k : k + doubts.SPAN]
                gap = float(whole_take.gaps(part, main, laid.evidence).min())
                windows.append((gap, float(true[k : k + doubts.SPAN].mean()) < 0.5))
        out.append((level, bar, windows))
    return out


def logistic(x: Floats, y: Floats, strength: float = 0.5) -> Floats:
    """Weights of a constant and of each column of ``x`` for the probability of ``y``."""
    spread = x.std(axis=0) + 1e-6
    z = np.column_stack([np.ones(len(x)), x / spread])

    def loss(w: Floats) -> tuple[float, Floats]:
        p = 1 / (1 + np.exp(-(z @ w)))
        total = -float(np.sum(y * np.log(p + 1e-9) + (1 - y) * np.log(1 - p + 1e-9))) + strength * float(w[1:] @ w[1:])
        return total, z.T @ (p - y) + 2 * strength * np.concatenate([[0], w[1:]])

    found = minimize(loss, np.zeros(z.shape[1]), jac=True, method="L-BFGS-B").x
    return np.concatenate([found[:1], found[1:] / spread])


def _told(name: str, weights: Floats, x: Floats, y: Floats, at: float) -> None:
    p = 1 / (1 + np.exp(-(weights[0] + x @ weights[1:])))
    flagged = p >= at
    real = y[flagged].mean() if flagged.any() else float("nan")
    caught = int((flagged & (y > 0)).sum())
    print(f"  {name}: {int(y.sum())} of {len(y)} wrong, doubted {int(flagged.sum())}, real {real:.2f}, caught {caught}")


def fit_doubts(folder: Path, judge: Path) -> None:
    with ProcessPoolExecutor(2) as pool:
        own = [d for some in pool.map(_doubted, sorted(folder.glob("*.npz"))) for d in some]
        others = [d for some in pool.map(_doubted, sorted(judge.glob("*.npz"))) for d in some]

    def columns(of: list[tuple], what: str) -> tuple[Floats, Floats]:
        if what == "level":
            rows = [d[0] for d in of]
        elif what == "bar lines":
            rows = [d[1] for d in of if d[1]]
        else:
            rows = [w for d in of for w in d[2]]
        table = np.array(rows, dtype=float).reshape(len(rows), -1)
        return table[:, :-1], table[:, -1]

    for what in ("level", "bar lines", "windows of bars"):
        x, y = columns(own, what)
        weights = logistic(x, y)
        print(what)
        keep(what, dict(zip(fitted(what), weights, strict=True)))
        for name, group in (("fit", own), ("evaluation", others)):
            if group:
                for at in (0.2, 0.3, 0.5):
                    _told(f"{name}, at {at}", weights, *columns(group, what), at)


def main() -> None:
    what, fit, judge = sys.argv[1], Path(sys.argv[2]), Path(sys.argv[3])
    if what == "hypotheses":
        own, others = choices(fit), choices(judge)
        before, after = np.array(list(WEIGHTS.values())), fit_hypotheses(own)
        keep("hypotheses", dict(zip(WEIGHTS, after, strict=True)))
        for name, group in (("fit", own), ("evaluation", others)):
            for drums in (True, False):
                some = [c for c in group if c.drums == drums]
                if some:
                    kind = "with drums" if drums else "without"
                    print(name, kind, len(some), "before", chosen(some, before), "after", chosen(some, after))
    elif what == "bars":
        fit_bars(evidences(fit), evidences(judge))
    elif what == "doubts":
        fit_doubts(fit, judge)
    elif what == "confidence":
        own, others = sureness(fit), sureness(judge)
        weights = fit_confidence(own)
        keep("confidence", dict(zip(certainty.CALIBRATION, weights, strict=True)))
        for name, group in (("fit", own), ("evaluation", others)):
            print(name)
            if group:
                reliability(group, weights)


if __name__ == "__main__":
    main()
