"""One semi-Markov model of beats, and what is asked of it.

A chain of beats is a sequence of frames. Each beat earns the gain of its frame; each interval between two beats pays
its tempo prior, and each change of interval a transition cost. That is the bar-pointer model (Whiteley, Cemgil and
Godsill 2006) in its efficient form (Krebs, Böck and Widmer 2015): tempo changes only at beats, so all frames between
two beats fold into one step.

- :mod:`~core.tracking.semi_markov.best_chain`: the most likely chain, of whatever number of beats, where asked for in
  several manners of playing;
- :mod:`~core.tracking.semi_markov.counted_chain`: the most likely chain of a known number of beats between two ends;
- :mod:`~core.tracking.semi_markov.posterior`: how likely a beat is at each frame, over all chains.

Bars are chains of bar lines over beats: the same model, with one price for a bar of another length.
"""

from core.tracking.semi_markov.best_chain import best_chain, best_manners, within_ratio
from core.tracking.semi_markov.counted_chain import counted_chain
from core.tracking.semi_markov.model import IMPOSSIBLE, Curve, Ints, tempo_prior, transition_costs
from core.tracking.semi_markov.posterior import beat_posterior

__all__ = [
    "IMPOSSIBLE",
    "Curve",
    "Ints",
    "beat_posterior",
    "best_chain",
    "best_manners",
    "counted_chain",
    "tempo_prior",
    "transition_costs",
    "within_ratio",
]
