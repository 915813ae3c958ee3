"""Finding beats and bars: guide, count, bars, attacks."""

from core.beats.fusion import GuideRank, Player
from core.beats.solve import NoBeats, Solution, Wishes, solve

__all__ = ["GuideRank", "NoBeats", "Player", "Solution", "Wishes", "solve"]
