"""Meters of unequal felt beats, like 2+2+3/8, seen as their even pulse: what counts evenly is done on that."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from core.tempomap.meter import Meter, MeterChange, Meters
from core.tempomap.tempomap import TempoMap


def is_uneven(meter: Meter) -> bool:
    return len(set(meter.groups)) > 1


def pulse_of(meter: Meter) -> Meter:
    """The same bar with every denominator felt; an even meter as it is."""
    return Meter(meter.numerator, meter.denominator, (1,) * meter.numerator) if is_uneven(meter) else meter


def pulsed(tempo_map: TempoMap) -> TempoMap:
    """The same map with its uneven meters felt as pulses; no point moves."""
    changes = tempo_map.meters.changes
    return replace(tempo_map, meters=Meters(tuple(MeterChange(c.bar, pulse_of(c.meter)) for c in changes)))


def has_pulses(tempo_map: TempoMap) -> bool:
    """Whether a bar of the mapped music has unequal felt beats."""
    meters, (first, last) = tempo_map.meters, tempo_map.bar_range
    opens = [first, *(c.bar for c in meters.changes if first < c.bar <= last)]
    return any(is_uneven(meters.meter_at(bar)) for bar in opens)


def same_place(index: float, of: TempoMap, to: TempoMap) -> float:
    """The felt-beat index in ``to`` of a felt-beat index in ``of``; both maps have the same bars."""
    return float(np.round(to.meters.beat_of_quarters(of.meters.quarters_of_beat(index)), 9))
