"""Tighten: attacks of one player pulled toward the grid, another player, or the player's own average.

Only attacks between the fences move; what lies outside them stays to the sample.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from core.errors import InputError
from core.reshaping.warp import Warp, WarpError
from core.tempomap import TempoMap
from core.tempomap.note_grid import Grid, grid_seconds

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

Target = Literal["grid", "track", "average"]
TARGETS: tuple[Target, ...] = get_args(Target)

#: Seconds: a fence stands so far before the attack that it guards; two attacks may come as near as this to each other.
_GUARD, _NEAREST = 0.012, 0.015
#: Which grids an automatic choice takes from, each with what it costs to be that fine (in beats off): a sixteenth is
#: believed only where it fits so much better than an eighth. Common practice, chosen by ear.
_AUTOMATIC = ((Grid(1.0), 0.0), (Grid(0.5), 0.02), (Grid(0.5, triplet=True), 0.05), (Grid(0.25), 0.05))
#: How much farther than an attack may be moved its place is looked for, in seconds.
_LOOK = 0.5
#: Seconds, and share of the gap before, by which a fence keeps away from the attack before.
_FENCE, _FENCE_SHARE = 0.04, 0.3


@dataclass(frozen=True)
class Tighten:
    """What to pull where.

    Attributes
    ----------
    start, end : float
        The stretch, in seconds of the recording.
    target : Target
        ``grid``: the map's note values; ``track``: the nearest attack of another track; ``average``: the player's own
        mean place against the grid, which keeps a lean and takes out only the spread.
    grid : Grid or None
        The note values; None: the coarsest that fits each attack.
    amount : float
        Share of the way, 0 to 1.
    leave_within, leave_beyond : float
        Seconds: what is nearer to its place stays, and so does what is farther from it, which was meant.
    left_out : sequence of float
        Seconds of attacks that stay because the engineer said so.
    fences : sequence of float
        Seconds inside the stretch that stay where they are.

    Raises :class:`core.errors.InputError`.
    """

    start: float
    end: float
    target: Target = "grid"
    grid: Grid | None = None
    amount: float = 0.6
    leave_within: float = 0.0
    leave_beyond: float = 0.08
    left_out: tuple[float, ...] = field(default=())
    fences: tuple[float, ...] = field(default=())

    def __post_init__(self) -> None:
        if not self.start < self.end:
            raise InputError("A stretch ends after it starts.")
        if not 0 <= self.amount <= 1:
            raise InputError("The amount lies between 0 and 100 percent.")
        if not 0 <= self.leave_within < self.leave_beyond <= 2:
            raise InputError("What is left alone lies within fewer milliseconds than what is too far away.")
        if self.target not in TARGETS:
            raise InputError(f"Attacks are pulled toward {', '.join(TARGETS)}, not “{self.target}”.")


@dataclass(frozen=True)
class Moves:
    """Attacks of the stretch, parallel arrays: where each is (``attack_sec``), where it belongs (``goal_sec``; NaN
    where nothing is near), where it goes (``target_sec``), and whether it is moved; ``fence_sec``: what stays."""

    attack_sec: Floats
    goal_sec: Floats
    target_sec: Floats
    is_moved: Bools
    fence_sec: Floats

    def warp(self) -> Warp:
        """Identity outside the outermost fences. Raises :class:`core.reshaping.warp.WarpError`."""
        if not len(self.attack_sec):
            return Warp.identity()
        return Warp.moving(self.attack_sec, self.target_sec, self.fence_sec)


def moves(
    tighten: Tighten, attacks: Floats, tempo_map: TempoMap, others: Floats | None = None, last: float | None = None
) -> Moves:
    """Where each attack of the stretch goes.

    Parameters
    ----------
    attacks
        Seconds of the player's attacks, rising; the whole track.
    others
        Seconds of the other track's attacks, for the target ``track``.
    last
        The end of the recording in seconds: no attack goes beyond it.
    """
    inside = (attacks >= tighten.start - _GUARD) & (attacks < tighten.end - _GUARD)
    here = attacks[inside]
    fences = _fences(tighten, attacks, here, last)
    goals = _goals(tighten, here, tempo_map, others)
    off = goals - here
    if tighten.target == "average" and np.isfinite(off).any():
        near = np.abs(off) <= tighten.leave_beyond
        goals = goals - (float(np.mean(off[near])) if near.any() else 0.0)
        off = goals - here
    moved = np.isfinite(off) & (np.abs(off) > tighten.leave_within) & (np.abs(off) <= tighten.leave_beyond)
    moved &= ~_among(here, np.array(tighten.left_out))
    moved &= _nearest_of_each(goals, off, moved)
    targets = np.where(moved, here + tighten.amount * np.nan_to_num(off), here)
    return Moves(here, goals, *_apart(here, targets, moved, fences), fences)


def _goals(tighten: Tighten, here: Floats, tempo_map: TempoMap, others: Floats | None) -> Floats:
    """The place of each attack: the nearest of the grid, or of the other track's attacks; NaN where there is none."""
    if tighten.target == "track":
        return _nearest(here, np.zeros(0) if others is None else others)
    if not len(here):
        return np.zeros(0)
    first, last = float(here[0]) - _LOOK, float(here[-1]) + _LOOK  # a stretch may be far longer than what is played
    if tighten.grid is not None:
        return _nearest(here, grid_seconds(tempo_map, tighten.grid, first, last))
    beat = 60 / np.maximum(1e-6, tempo_map.bpm_at(here))
    all_goals = np.array([_nearest(here, grid_seconds(tempo_map, g, first, last)) for g, _ in _AUTOMATIC])
    costs = np.abs(all_goals - here) / beat + np.array([[cost] for _, cost in _AUTOMATIC])
    return np.asarray(all_goals[np.nanargmin(costs, axis=0), np.arange(len(here))])


def place_of(attack: float, tempo_map: TempoMap, grid: Grid | None = None) -> float:
    """Where an attack (seconds) belongs in the grid; None: the coarsest note value that fits."""
    around = Tighten(attack - _LOOK, attack + _LOOK, "grid", grid)
    return float(_goals(around, np.array([attack]), tempo_map, None)[0])


def _nearest(values: Floats, places: Floats) -> Floats:
    if not len(places):
        return np.full(len(values), np.nan)
    k = np.searchsorted(places, values)
    before, after = places[np.maximum(k - 1, 0)], places[np.minimum(k, len(places) - 1)]
    return np.where(np.abs(values - before) <= np.abs(after - values), before, after)


def _among(values: Floats, chosen: Floats) -> Bools:
    if not len(chosen):
        return np.zeros(len(values), dtype=np.bool_)
    return np.asarray(np.abs(values[:, None] - chosen).min(axis=1) < 1e-4)


def _nearest_of_each(goals: Floats, off: Floats, moved: Bools) -> Bools:
    """Of several attacks that belong to one place (a flam) only the nearest goes there; the others keep their distance
    from what is around them."""
    keep = np.ones(len(goals), dtype=np.bool_)
    for goal in np.unique(goals[moved]):
        same = np.flatnonzero(moved & (goals == goal))
        keep[same] = False
        keep[same[np.argmin(np.abs(off[same]))]] = True
    return keep


def _fences(tighten: Tighten, attacks: Floats, here: Floats, last: float | None) -> Floats:
    """Just before the first attack of the stretch could go and before the first attack behind it, and where the
    engineer put some."""
    start, end = tighten.start, tighten.end
    before = attacks[attacks < (here[0] if len(here) else start)]
    after = attacks[attacks >= end - _GUARD]
    low = before[-1] + 2 * _GUARD if len(before) else 0.0
    first = max(low, min(start, here[0] if len(here) else start) - tighten.leave_beyond - _GUARD)
    if len(here):
        first = min(first, here[0] - 1e-3)
    high = after[0] - _GUARD if len(after) else (last if last is not None else end + tighten.leave_beyond)
    final = max(min(high, end + tighten.leave_beyond), (here[-1] if len(here) else start) + 1e-3)
    inside = [f for f in tighten.fences if first < f < final]
    return np.unique(np.array([max(0.0, first), *inside, final]))


def _apart(here: Floats, targets: Floats, moved: Bools, fences: Floats) -> tuple[Floats, Bools]:
    """Targets in the order of their attacks, ``_NEAREST`` apart where there is room, between their fences."""
    out = targets.copy()
    if not len(out):
        return out, moved
    pen = np.searchsorted(fences, here, side="right")
    low = np.append(fences, np.inf)[np.maximum(pen - 1, 0)]
    high = np.append(fences, np.inf)[np.minimum(pen, len(fences))]
    gap = np.minimum(_NEAREST, np.append(np.diff(here), np.inf) * 0.5)
    edge = np.minimum(1e-3, 0.25 * np.minimum(here - low, high - here))
    out = np.clip(out, low + edge, high - edge)
    for k in range(1, len(out)):
        out[k] = max(out[k], out[k - 1] + gap[k - 1])
    for k in range(len(out) - 2, -1, -1):
        out[k] = min(out[k], out[k + 1] - gap[k])
    return out, np.asarray(moved & (np.abs(out - here) > 1e-9))


def one_attack(
    attacks: Floats, attack: float, target: float, fences: tuple[float, float] | None = None
) -> tuple[Warp, tuple[float, float]]:
    """Move one attack; fences stand just before it could touch its neighbours unless given. The warp, and its fences.

    Raises :class:`core.reshaping.warp.WarpError` where the target lies outside the fences.
    """
    k = int(np.argmin(np.abs(attacks - attack)))
    at = float(attacks[k])
    if fences is None:
        before = float(attacks[k - 1]) if k else max(0.0, at - 1.0)
        after = float(attacks[k + 1]) - _GUARD if k + 1 < len(attacks) else at + 1.0
        fences = (before + min(_FENCE, _FENCE_SHARE * (at - before)), max(after, at + 1e-3))
    if not fences[0] < target < fences[1]:
        raise WarpError(f"The attack can go from {fences[0]:.3f} to {fences[1]:.3f} s; its fences stand there.")
    return Warp.moving([at], [target], fences), fences
