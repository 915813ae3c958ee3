"""How freely the tempo of a take moves, told by the take itself.

No one price of a change of tempo fits all takes: a band drifts by a per cent or two from beat to beat, a singer and a
pianist wait and hurry by ten. The best chain always gains by a lower price; how likely the take is, summed over all
chains, does not: a model that allows more spreads its probability over more chains (MacKay 1992).
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from core.tracking.parameters import FREE, TransitionCosts
from core.tracking.semi_markov import log_evidence, tempo_prior, transition_costs

Floats = NDArray[np.float64]

#: Prices of a 10 % change that are compared, in units of a full attack, the highest first.
_PRICES = (FREE.change, 0.75, 0.4, 0.2)
#: Chosen on the fitting set among 6, 8 and 12 (docs/measured.md): nats that a full attack is worth here.
_SHARPNESS = 8.0
#: By how much another price has to be ahead of the usual one, in nats. Published: from there on evidence is strong
#: (Kass and Raftery 1995, "Bayes factors").
_STRONG = 3.0
#: How far intervals may lie from the typical one, and from their neighbours, as factors.
_RANGE, _RATIO = 1.3, 1.25


def estimate_costs(curve: Floats, interval: float, costs: TransitionCosts = FREE) -> TransitionCosts:
    """The costs with the price of a change of tempo under which what is played is likeliest.

    Parameters
    ----------
    curve : (frames,)
        How likely beats are, as of :func:`core.tracking.decoder.decode`.
    interval : float
        The usual time between beats, in frames.
    """
    shortest, longest = max(1, int(interval / _RANGE)), int(interval * _RANGE) + 1
    prior = _SHARPNESS * tempo_prior(np.arange(shortest, longest + 1), interval)
    gain = _SHARPNESS * (curve - costs.beat)

    def evidence(price: float) -> float:
        cost = transition_costs(shortest, len(prior), _SHARPNESS * price)
        return log_evidence(gain, shortest, prior, cost, _RATIO)

    with ThreadPoolExecutor(1) as pool:  # most takes need the first two prices only
        pending = pool.submit(evidence, _PRICES[1])
        likely = [evidence(_PRICES[0]), pending.result()]
    while likely[-1] > likely[-2] and len(likely) < len(_PRICES):
        likely.append(evidence(_PRICES[len(likely)]))
    best = int(np.argmax(likely))
    return replace(costs, change=_PRICES[best]) if likely[best] - likely[0] > _STRONG else costs
