"""The tempo map, its meters, its positions and its edits."""

from core.tempomap.meter import Meter, MeterChange, Meters
from core.tempomap.position import TICKS, Position, position_at
from core.tempomap.tempomap import Beats, MapError, TempoMap

__all__ = [
    "TICKS",
    "Beats",
    "MapError",
    "Meter",
    "MeterChange",
    "Meters",
    "Position",
    "TempoMap",
    "position_at",
]
