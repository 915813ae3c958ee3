"""What tempos and bar numbers there are."""

from __future__ import annotations

from core.tempomap.errors import EditError

#: Bars are numbered from minus this to this.
LAST_BAR = 9999
#: Two beats closer than this are one, in seconds: 600 a minute is past what anybody counts (common practice).
CLOSEST = 0.1
#: Felt beats a minute.
SLOWEST, FASTEST = 10.0, 60 / CLOSEST


def checked_tempo(bpm: float) -> float:
    """``bpm``, felt beats a minute. Raises :class:`EditError` where it is no tempo."""
    if not SLOWEST <= bpm <= FASTEST:
        raise EditError(f"A tempo lies between {SLOWEST:.0f} and {FASTEST:.0f} beats a minute.")
    return bpm


def checked_range(low: float, high: float) -> tuple[float, float]:
    """A range of tempos, felt beats a minute. Raises :class:`EditError` where it is none."""
    if not SLOWEST <= low < high <= FASTEST:
        raise EditError(f"A tempo range rises and lies within {SLOWEST:.0f} to {FASTEST:.0f} beats a minute.")
    return low, high
