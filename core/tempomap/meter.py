"""Meters with felt groups, and the sequence of meters that lays bars and felt beats along the quarters.

Three ways to say where something is, never mixed:

* *quarters*: distance from the downbeat of bar 1 in quarter notes, the tempo map's own axis;
* *beat index*: felt beats from the downbeat of bar 1 (in 6/8 one felt beat is 1.5 quarters);
* *bar and beat*: as a musician counts; the bar before bar 1 is bar 0, the first beat of a bar is 1.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray

from core.errors import InputError

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Where a position within this many quarters (or beats) of a line counts as being on it.
EPSILON = 1e-6


def usual_groups(numerator: int, denominator: int) -> tuple[int, ...]:
    """The felt groups players usually give a time signature (common practice).

    Compound meters (6/8, 9/8, 12/8) are felt in threes; 5/8 and 7/8 in twos with a closing three;
    everything else one denominator at a time.
    """
    if denominator >= 8 and numerator % 3 == 0:
        return (3,) * (numerator // 3)
    if denominator >= 8 and numerator in (5, 7):
        return (2,) * (numerator // 2 - 1) + (3,)
    return (1,) * numerator


@dataclass(frozen=True)
class Meter:
    """A time signature and how it is felt, e.g. ``Meter(7, 8, (2, 2, 3))``.

    ``groups`` counts denominators a felt beat; left empty it is filled by :func:`usual_groups`.
    Raises :class:`core.errors.InputError` when the numbers make no time signature.
    """

    numerator: int
    denominator: int = 4
    groups: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        if not 1 <= self.numerator <= 64:
            raise InputError(f"A bar needs 1 to 64 counts, not {self.numerator}.")
        if self.denominator not in (1, 2, 4, 8, 16, 32):
            raise InputError(f"The lower number of a meter is 1, 2, 4, 8, 16 or 32, not {self.denominator}.")
        if not self.groups:
            object.__setattr__(self, "groups", usual_groups(self.numerator, self.denominator))
        if min(self.groups) < 1 or sum(self.groups) != self.numerator:
            raise InputError(f"The groups {'+'.join(map(str, self.groups))} do not add up to {self.numerator}.")

    @classmethod
    def parse(cls, text: str) -> Meter:
        """Read ``4/4``, ``6/8`` or, with felt groups, ``2+2+3/8``. Raises :class:`core.errors.InputError`."""
        upper, slash, lower = text.strip().partition("/")
        try:
            counts = tuple(int(part) for part in upper.split("+"))
            denominator = int(lower) if slash else 4
        except ValueError:
            raise InputError(f"“{text}” is not a meter; write it like 4/4, 6/8 or 2+2+3/8.") from None
        return cls(sum(counts), denominator, counts if len(counts) > 1 else ())

    def __str__(self) -> str:
        return f"{self.numerator}/{self.denominator}"

    @property
    def felt(self) -> str:
        """The meter with its groups where they are not the usual ones, as :meth:`parse` reads it."""
        if self.groups == usual_groups(self.numerator, self.denominator):
            return str(self)
        return f"{'+'.join(map(str, self.groups))}/{self.denominator}"

    @property
    def beats(self) -> int:
        """Felt beats a bar."""
        return len(self.groups)

    @property
    def quarters(self) -> float:
        """Length of a bar in quarters."""
        return self.numerator * 4 / self.denominator

    @cached_property
    def beat_offsets(self) -> Floats:
        """Quarters from the bar line to each felt beat, and to the next bar line; ``beats + 1`` values."""
        return np.concatenate(([0], np.cumsum(self.groups))) * (4 / self.denominator)


@dataclass(frozen=True)
class MeterChange:
    """From ``bar`` on, bars have this meter."""

    bar: int
    meter: Meter


@dataclass(frozen=True)
class Meters:
    """The meters of a take. The first change stands at bar 1 and also rules the bars before it.

    Equal neighbours are merged, so that two sequences which sound the same compare equal.
    Raises ``ValueError`` when the changes are empty, not rising, or do not start at bar 1.
    """

    changes: tuple[MeterChange, ...] = (MeterChange(1, Meter(4)),)

    def __post_init__(self) -> None:
        bars = [c.bar for c in self.changes]
        if not bars or bars[0] != 1 or any(b <= a for a, b in zip(bars, bars[1:], strict=False)):
            raise ValueError("Meter changes start at bar 1 and rise bar by bar.")
        merged: list[MeterChange] = []
        for change in self.changes:
            if not merged or merged[-1].meter != change.meter:
                merged.append(change)
        object.__setattr__(self, "changes", tuple(merged))

    @classmethod
    def of(cls, *changes: tuple[int, str]) -> Meters:
        """``Meters.of((1, "4/4"), (9, "2/4"), (10, "4/4"))``."""
        return cls(tuple(MeterChange(bar, Meter.parse(text)) for bar, text in changes))

    # The start of each change, on each axis: small lists, as a take has few changes.

    @cached_property
    def _bars(self) -> list[int]:
        return [c.bar for c in self.changes]

    @cached_property
    def _quarters(self) -> list[float]:
        starts = [0.0]
        for a, b in zip(self.changes, self.changes[1:], strict=False):
            starts.append(starts[-1] + (b.bar - a.bar) * a.meter.quarters)
        return starts

    @cached_property
    def _indices(self) -> list[int]:
        starts = [0]
        for a, b in zip(self.changes, self.changes[1:], strict=False):
            starts.append(starts[-1] + (b.bar - a.bar) * a.meter.beats)
        return starts

    def meter_at(self, bar: int) -> Meter:
        return self.changes[max(0, bisect_right(self._bars, bar) - 1)].meter

    def bar_quarters(self, bars: ArrayLike) -> Floats:
        """Quarters at the bar lines of ``bars`` (any shape)."""
        bars = np.asarray(bars, dtype=np.float64)
        s = np.maximum(np.searchsorted(self._bars, bars, side="right") - 1, 0)
        lengths = np.array([c.meter.quarters for c in self.changes])
        return np.asarray(np.array(self._quarters)[s] + (bars - np.array(self._bars)[s]) * lengths[s])

    def bars_at(self, quarters: ArrayLike) -> Ints:
        """The bar that contains each position; a position on a bar line (within EPSILON) opens that bar."""
        q = np.asarray(quarters, dtype=np.float64) + EPSILON
        s = np.maximum(np.searchsorted(self._quarters, q, side="right") - 1, 0)
        lengths = np.array([c.meter.quarters for c in self.changes])
        into = np.floor((q - np.array(self._quarters)[s]) / lengths[s])
        return np.asarray((np.array(self._bars)[s] + into).astype(np.int64))

    def quarters_of_beat(self, index: ArrayLike) -> Floats:
        """Quarters at (fractional) felt-beat indices counted from bar 1."""
        i = np.asarray(index, dtype=np.float64)
        s = np.maximum(np.searchsorted(self._indices, i + EPSILON, side="right") - 1, 0)
        out = np.empty(i.shape)
        for k in np.unique(s):
            meter, here = self.changes[k].meter, s == k
            bars, into = np.divmod(i[here] - self._indices[k], meter.beats)
            offset = np.interp(into, np.arange(meter.beats + 1), meter.beat_offsets)
            out[here] = self._quarters[k] + bars * meter.quarters + offset
        return out

    def beat_of_quarters(self, quarters: ArrayLike) -> Floats:
        """Fractional felt-beat indices at positions in quarters; inverse of :meth:`quarters_of_beat`."""
        q = np.asarray(quarters, dtype=np.float64)
        s = np.maximum(np.searchsorted(self._quarters, q + EPSILON, side="right") - 1, 0)
        out = np.empty(q.shape)
        for k in np.unique(s):
            meter, here = self.changes[k].meter, s == k
            bars, into = np.divmod(q[here] - self._quarters[k], meter.quarters)
            index = np.interp(into, meter.beat_offsets, np.arange(meter.beats + 1))
            out[here] = self._indices[k] + bars * meter.beats + index
        return out

    def counted(self, first: int, last: int) -> tuple[Ints, Floats, Ints, Ints]:
        """Felt-beat indices ``first`` to ``last``, their quarters, bars, and numbers in the bar; not to be written to.

        Kept, as every edit of a map asks for the same ones."""
        return _counted(self, first, last)

    def with_meter(self, bar: int, meter: Meter, only: bool = False) -> Meters:
        """``meter`` from ``bar`` on (until the next change), or for that bar only."""
        if bar < 1:
            bar = 1  # what lies before bar 1 follows bar 1's meter
        before, after = self.meter_at(bar), self.meter_at(bar + 1)
        table = {c.bar: c.meter for c in self.changes}
        table[bar] = meter
        if only:
            table[bar + 1] = after
        table.setdefault(1, before)
        return Meters(tuple(MeterChange(b, m) for b, m in sorted(table.items())))

    def followed(self, beat: int, meter: Meter, others: Iterable[MeterChange] = ()) -> Meters:
        """These changes, then ``meter`` from the bar line nearest to felt beat ``beat``; ``others`` as far behind that
        as their bar numbers say."""
        last = self.changes[-1]
        opens = last.bar + max(1, round((beat - self._indices[-1]) / last.meter.beats))
        return Meters(
            (*self.changes, MeterChange(opens, meter), *(MeterChange(opens + c.bar, c.meter) for c in others))
        )

    def moved(self, beat: int, by: int) -> Meters:
        """The changes from felt beat ``beat`` on stand ``by`` beats later, as when beats before them are found or lost:
        they stay with the music where a bar line falls there."""
        k = next((k for k, index in enumerate(self._indices) if k and index >= beat), None)
        if k is None or not by:
            return self
        later = [MeterChange(c.bar - self.changes[k].bar, c.meter) for c in self.changes[k + 1 :]]
        return Meters(self.changes[:k]).followed(self._indices[k] + by, self.changes[k].meter, later)


@lru_cache(maxsize=32)
def _counted(meters: Meters, first: int, last: int) -> tuple[Ints, Floats, Ints, Ints]:
    index = np.arange(first, last + 1)
    quarters = meters.quarters_of_beat(index)
    bar = meters.bars_at(quarters)
    opening = np.round(meters.beat_of_quarters(meters.bar_quarters(bar))).astype(np.int64)
    beat = index - opening + 1
    for kept in (index, quarters, bar, beat):
        kept.flags.writeable = False
    return index, quarters, bar, beat
