"""The tempo map: which second each musical position falls on. All code that needs it reads it here; none copies its
arithmetic."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from core.errors import InputError
from core.tempomap.meter import EPSILON, Floats, Ints, Meter, MeterChange, Meters


class MapError(InputError):
    """A map that cannot be, in words for the engineer."""


def _frozen(values: ArrayLike, dtype: type) -> NDArray[Any]:
    array: NDArray[Any] = np.array(values, dtype=dtype)
    array.setflags(write=False)
    return array


@dataclass(frozen=True)
class Beats:
    """Felt beats as parallel arrays, one entry a beat."""

    seconds: Floats
    quarters: Floats
    bar: Ints
    beat: Ints
    index: Ints

    def __len__(self) -> int:
        return len(self.seconds)


@dataclass(frozen=True, eq=False)
class TempoMap:
    """An immutable map between seconds and quarters, with meters.

    ``seconds``, ``quarters``: float64 arrays of equal length (two or more), strictly rising; between
    points the tempo is constant. Quarter 0 is the downbeat of bar 1; a pickup has negative quarters.
    ``pins``: bool array, true where the engineer fixed the point. ``lead_bpm`` and ``tail_bpm`` are
    quarters a minute before the first and after the last point; None continues the nearest stretch.
    Raises :class:`MapError`.
    """

    seconds: Floats
    quarters: Floats
    meters: Meters = field(default_factory=Meters)
    pins: NDArray[np.bool_] | None = None
    lead_bpm: float | None = None
    tail_bpm: float | None = None

    def __post_init__(self) -> None:
        seconds, quarters = _frozen(self.seconds, np.float64), _frozen(self.quarters, np.float64)
        pins = _frozen(np.zeros(len(seconds)) if self.pins is None else self.pins, np.bool_)
        if seconds.ndim != 1 or not len(seconds) == len(quarters) == len(pins):
            raise MapError("Every point of a tempo map needs a time and a musical position.")
        if len(seconds) < 2:
            raise MapError("A tempo map needs at least two beats.")
        if not (np.isfinite(seconds).all() and np.isfinite(quarters).all()):
            raise MapError("A tempo map cannot hold times that are not numbers.")
        if (np.diff(seconds) <= 0).any() or (np.diff(quarters) <= 0).any():
            raise MapError("Beats must follow one another in time.")
        for bpm in (self.lead_bpm, self.tail_bpm):
            if bpm is not None and not 0 < bpm < 1e6:
                raise MapError("A tempo must be above zero.")
        object.__setattr__(self, "seconds", seconds)
        object.__setattr__(self, "quarters", quarters)
        object.__setattr__(self, "pins", pins)

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, TempoMap):
            return NotImplemented
        return self.to_json() == other.to_json()

    __hash__ = None  # type: ignore[assignment]  # compared by value, never a dictionary key

    # ---- making one

    @classmethod
    def steady(cls, bpm: float, meters: Meters | None = None, start: float = 0.0, bars: int = 8) -> TempoMap:
        """A click at ``bpm`` quarters a minute; bar 1 at ``start`` seconds."""
        meters = meters or Meters()
        end = float(meters.bar_quarters(1 + bars))
        return cls(np.array([start, start + end * 60 / bpm]), np.array([0.0, end]), meters)

    @classmethod
    def from_beats(cls, times: ArrayLike, first_index: int = 0, meters: Meters | None = None) -> TempoMap:
        """From the seconds of consecutive felt beats; ``first_index`` is negative where a pickup comes first."""
        meters = meters or Meters()
        times = np.asarray(times, dtype=np.float64)
        return cls(times, meters.quarters_of_beat(first_index + np.arange(len(times))), meters)

    def with_points(self, seconds: ArrayLike, quarters: ArrayLike, pins: ArrayLike | None = None) -> TempoMap:
        """The same map with other points."""
        return TempoMap(
            np.asarray(seconds),
            np.asarray(quarters),
            self.meters,
            None if pins is None else np.asarray(pins),
            self.lead_bpm,
            self.tail_bpm,
        )

    # ---- conversions

    @cached_property
    def lead_slope(self) -> float:
        """Quarters a second before the first point."""
        if self.lead_bpm is not None:
            return self.lead_bpm / 60
        return float((self.quarters[1] - self.quarters[0]) / (self.seconds[1] - self.seconds[0]))

    @cached_property
    def tail_slope(self) -> float:
        """Quarters a second after the last point."""
        if self.tail_bpm is not None:
            return self.tail_bpm / 60
        return float((self.quarters[-1] - self.quarters[-2]) / (self.seconds[-1] - self.seconds[-2]))

    def quarters_at(self, seconds: ArrayLike) -> Floats:
        """Quarters at times in seconds (scalar or any shape); goes on at lead and tail tempo outside."""
        t = np.asarray(seconds, dtype=np.float64)
        q = np.interp(t, self.seconds, self.quarters)
        q = np.where(t < self.seconds[0], self.quarters[0] + (t - self.seconds[0]) * self.lead_slope, q)
        q = np.where(t > self.seconds[-1], self.quarters[-1] + (t - self.seconds[-1]) * self.tail_slope, q)
        return q[()]

    def seconds_at(self, quarters: ArrayLike) -> Floats:
        """Seconds at positions in quarters; inverse of :meth:`quarters_at`."""
        q = np.asarray(quarters, dtype=np.float64)
        t = np.interp(q, self.quarters, self.seconds)
        t = np.where(q < self.quarters[0], self.seconds[0] + (q - self.quarters[0]) / self.lead_slope, t)
        t = np.where(q > self.quarters[-1], self.seconds[-1] + (q - self.quarters[-1]) / self.tail_slope, t)
        return t[()]

    def bpm_at(self, seconds: ArrayLike) -> Floats:
        """Quarters a minute at times in seconds."""
        t = np.asarray(seconds, dtype=np.float64)
        slopes = np.concatenate(([self.lead_slope], np.diff(self.quarters) / np.diff(self.seconds), [self.tail_slope]))
        return (60 * slopes[np.searchsorted(self.seconds, t, side="right")])[()]

    # ---- bars and beats

    @property
    def average_bpm(self) -> float:
        """Felt beats a minute from the first beat to the last."""
        seconds = self.beats().seconds
        return 60 * (len(seconds) - 1) / float(seconds[-1] - seconds[0])

    @property
    def median_bpm(self) -> float:
        """The median of the felt beats' tempos, a minute."""
        return float(np.median(60 / np.diff(self.beats().seconds)))

    def beat_index_at(self, seconds: ArrayLike) -> Floats:
        """Fractional felt-beat index (0 = downbeat of bar 1) at times in seconds."""
        return self.meters.beat_of_quarters(self.quarters_at(seconds))

    def seconds_of_beat(self, index: ArrayLike) -> Floats:
        """Seconds of (fractional) felt-beat indices."""
        return self.seconds_at(self.meters.quarters_of_beat(index))

    def beats(self, first: int | None = None, last: int | None = None) -> Beats:
        """Felt beats with indices ``first`` to ``last`` inclusive; by default those inside the mapped music."""
        if first is None and last is None:
            return self._beats
        return self._beats_from(first, last)

    @cached_property
    def _beats(self) -> Beats:
        return self._beats_from(None, None)

    def _beats_from(self, first: int | None, last: int | None) -> Beats:
        ends = self.meters.beat_of_quarters(self.quarters[[0, -1]])
        first = int(np.ceil(ends[0] - EPSILON)) if first is None else first
        last = int(np.floor(ends[1] + EPSILON)) if last is None else last
        index, quarters, bar, beat = self.meters.counted(first, last)
        rows = (self.seconds_at(quarters), quarters, bar, beat, index)
        for row in rows:
            row.setflags(write=False)
        return Beats(*rows)

    def bar_seconds(self, bars: ArrayLike) -> Floats:
        """Seconds of bar lines."""
        return self.seconds_at(self.meters.bar_quarters(bars))

    @cached_property
    def bar_range(self) -> tuple[int, int]:
        """The first and last bar that the mapped music touches; a bar line at its very end opens no bar."""
        first = int(self.meters.bars_at(self.quarters[0]))
        last = int(self.meters.bars_at(self.quarters[-1] - 2 * EPSILON))
        return first, last

    # ---- as plain data

    def to_json(self, arrays: bool = False) -> dict[str, Any]:
        """Plain data that :meth:`from_json` restores bit for bit (floats keep their shortest exact form); with
        ``arrays`` the long rows stay numpy's, for a writer that knows those."""
        assert self.pins is not None
        seconds, quarters = (np.ascontiguousarray(x) for x in (self.seconds, self.quarters))
        return {
            "seconds": seconds if arrays else seconds.tolist(),
            "quarters": quarters if arrays else quarters.tolist(),
            "pins": np.flatnonzero(self.pins).tolist(),
            "meters": [[c.bar, c.meter.felt] for c in self.meters.changes],
            "lead_bpm": self.lead_bpm,
            "tail_bpm": self.tail_bpm,
        }

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> TempoMap:
        """Restore :meth:`to_json`. Raises :class:`MapError` on a map that cannot be."""
        pins = np.zeros(len(data["seconds"]), dtype=bool)
        pins[data["pins"]] = True
        meters = Meters(tuple(MeterChange(bar, Meter.parse(text)) for bar, text in data["meters"]))
        return cls(data["seconds"], data["quarters"], meters, pins, data["lead_bpm"], data["tail_bpm"])
