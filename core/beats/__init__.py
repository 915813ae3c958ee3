"""Finding beats and bars: guide, count, bars, attacks, certainty, doubts."""

from core.beats.fusion import GuideRank, Player
from core.beats.scene import NoBeats, Scene, look
from core.beats.solve import Alternative, Solution, Wishes, solve

__all__ = ["Alternative", "GuideRank", "NoBeats", "Player", "Scene", "Solution", "Wishes", "look", "solve"]
