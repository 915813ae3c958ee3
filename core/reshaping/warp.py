"""Warps: which second of a recording sounds at which second of the result."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from core.errors import InputError
from core.tempomap import TempoMap

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Musical positions (quarters) nearer than this are one anchor.
_SAME_QUARTER = 1e-6


class WarpError(InputError):
    """A warp that cannot be, in words for the engineer."""


@dataclass(frozen=True, eq=False)
class Warp:
    """An immutable, strictly rising map from seconds of the recording to seconds of the result.

    ``source_sec``, ``target_sec``: float64 arrays of equal length (one or more), strictly rising. Between anchors time
    runs evenly; before the first and after the last one the recording keeps its own pace. Raises :class:`WarpError`.
    """

    source_sec: Floats
    target_sec: Floats

    def __post_init__(self) -> None:
        source = np.array(self.source_sec, dtype=np.float64)
        target = np.array(self.target_sec, dtype=np.float64)
        if source.ndim != 1 or len(source) != len(target) or not len(source):
            raise WarpError("Every anchor of a warp needs a time in the recording and one in the result.")
        if not (np.isfinite(source).all() and np.isfinite(target).all()):
            raise WarpError("A warp cannot hold times that are not numbers.")
        if (np.diff(source) <= 0).any() or (np.diff(target) <= 0).any():
            raise WarpError("A warp cannot run backwards.")
        for values in (source, target):
            values.setflags(write=False)
        object.__setattr__(self, "source_sec", source)
        object.__setattr__(self, "target_sec", target)

    def __len__(self) -> int:
        return len(self.source_sec)

    # ---- making one

    @classmethod
    def identity(cls) -> Warp:
        """Everything stays where it is."""
        return cls(np.zeros(1), np.zeros(1))

    @classmethod
    def between_maps(cls, source: TempoMap, target: TempoMap, quarters: ArrayLike) -> Warp:
        """What brings the music at the positions ``quarters`` from where one map has it to where another has it."""
        q = np.unique(np.asarray(quarters, dtype=np.float64))
        q = q[np.concatenate(([True], np.diff(q) > _SAME_QUARTER))]
        return cls(source.seconds_at(q), target.seconds_at(q))

    @classmethod
    def moving(cls, attacks: ArrayLike, targets: ArrayLike, fences: ArrayLike) -> Warp:
        """Attacks are moved to their targets; ``fences`` stay, and with them all that lies outside the outermost ones.

        Attacks within a fence's own place are left out. Raises :class:`WarpError` where an attack would pass a
        neighbour or a fence.
        """
        fixed = np.unique(np.asarray(fences, dtype=np.float64))
        source, target = np.asarray(attacks, dtype=np.float64), np.asarray(targets, dtype=np.float64)
        free = ~np.isin(source, fixed)
        all_source = np.concatenate([fixed, source[free]])
        all_target = np.concatenate([fixed, target[free]])
        order = np.argsort(all_source, kind="stable")
        return cls(all_source[order], all_target[order])

    # ---- conversions

    def to_target(self, source_sec: ArrayLike) -> Floats:
        """Seconds of the result at seconds of the recording; any shape."""
        return _along(source_sec, self.source_sec, self.target_sec)

    def to_source(self, target_sec: ArrayLike) -> Floats:
        """Seconds of the recording at seconds of the result; inverse of :meth:`to_target`."""
        return _along(target_sec, self.target_sec, self.source_sec)

    def inverse(self) -> Warp:
        """The way back."""
        return Warp(self.target_sec, self.source_sec)

    def then(self, later: Warp) -> Warp:
        """This warp, and ``later`` on its result."""
        middle = np.union1d(self.target_sec, later.source_sec)
        source, target = self.to_source(middle), later.to_target(middle)
        # where rounding makes two anchors one, the second is dropped
        rising = np.concatenate(([True], (np.diff(source) > 0) & (np.diff(target) > 0)))
        return Warp(source[rising], target[rising])

    def shifted(self, seconds: float) -> Warp:
        """The same with all of the result later by ``seconds``."""
        return Warp(self.source_sec, self.target_sec + seconds)

    @property
    def is_identity(self) -> bool:
        """Whether everything stays where it is."""
        return bool((self.source_sec == self.target_sec).all())

    @property
    def stretch(self) -> Floats:
        """How many times as long each piece between anchors becomes; ``(len - 1,)``."""
        return np.diff(self.target_sec) / np.diff(self.source_sec)

    def in_samples(self, rate: int) -> tuple[Ints, Ints]:
        """The anchors at their nearest samples; of those that fall on one sample the first stays."""
        source = np.round(self.source_sec * rate).astype(np.int64)
        target = np.round(self.target_sec * rate).astype(np.int64)
        keep = [0]
        for k in range(1, len(source)):
            if source[k] > source[keep[-1]] and target[k] > target[keep[-1]]:
                keep.append(k)
        return source[keep], target[keep]

    # ---- as plain data

    def to_json(self) -> dict[str, Any]:
        return {"source_sec": self.source_sec.tolist(), "target_sec": self.target_sec.tolist()}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Warp:
        """Restore :meth:`to_json`. Raises :class:`WarpError`."""
        return cls(data["source_sec"], data["target_sec"])


def _along(values: ArrayLike, xs: Floats, ys: Floats) -> Floats:
    x = np.asarray(values, dtype=np.float64)
    y = np.interp(x, xs, ys)
    y = np.where(x < xs[0], x + (ys[0] - xs[0]), y)
    return np.asarray(np.where(x > xs[-1], x + (ys[-1] - xs[-1]), y)[()])


def warped_map(tempo_map: TempoMap, warp: Warp) -> TempoMap:
    """The map of the result: every point of ``tempo_map`` where the warp brings it, and a point at every anchor."""
    seconds = np.union1d(
        tempo_map.seconds, _inside(warp.source_sec, float(tempo_map.seconds[0]), float(tempo_map.seconds[-1]))
    )
    quarters = tempo_map.quarters_at(seconds)
    return tempo_map.with_points(warp.to_target(seconds), quarters)


def _inside(values: Iterable[float], first: float, last: float) -> Floats:
    return np.array([v for v in values if first < v < last], dtype=np.float64)
