"""What was found in several pieces of one recording, as one result."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tracking.context import AnalysisContext
from core.tracking.hypothesis import compared, rate
from core.tracking.pieces import joined
from core.tracking.results import Alternative, TrackingOptions, TrackingResult
from core.tracking.review import review

Ints = NDArray[np.int64]


def joined_results(
    context: AnalysisContext, results: Sequence[TrackingResult], options: TrackingOptions
) -> TrackingResult:
    """The results of pieces, in order of time, as one of the whole recording ``context``. Its ``candidate`` is that of
    the longest piece; beats between pieces have features of 0."""
    tempo_map = joined([r.map for r in results])
    chains = [_counted_through(results, tempo_map), *_rivals(results)]
    confidence, doubts = review(context, tempo_map, options.tempo, chains)
    beats = tempo_map.beats()
    features = np.zeros((len(beats), results[0].features.shape[1]))
    for r in results:
        first = int(np.argmin(np.abs(beats.seconds - r.map.beats().seconds[0])))
        features[first : first + len(r.features)] = r.features
    return TrackingResult(
        tempo_map,
        confidence,
        context.ranks,
        doubts,
        _alternatives(results, tempo_map),
        features,
        compared([rate(context, chain, options.tempo) for chain in chains]),
        max(results, key=lambda r: len(r.map.beats())).candidate,
    )


def _counted_through(results: Sequence[TrackingResult], tempo_map: TempoMap) -> Ints:
    """The beats (frames) of every piece's best hypothesis, and between them those of the map."""
    between = np.round(tempo_map.beats().seconds * FRAME_RATE).astype(np.int64)
    chains = [r.hypotheses[0].frames for r in results]
    out = [chains[0]]
    for before, after in pairwise(chains):
        end, start = before[-1] + np.diff(before)[-1] // 2, after[0] - np.diff(after)[0] // 2
        out += [between[(between > end) & (between < start)], after]
    return np.concatenate(out)


def _rivals(results: Sequence[TrackingResult]) -> list[Ints]:
    """The pieces' second hypotheses as one chain, with no beats between them; and so on."""
    most = max(len(r.hypotheses) for r in results)
    rows = [[r.hypotheses[k].frames for r in results if k < len(r.hypotheses)] for k in range(1, most)]
    return [np.concatenate(row) for row in rows]


def _alternatives(results: Sequence[TrackingResult], tempo_map: TempoMap) -> list[Alternative]:
    """The whole map with another reading of one piece; scores are those within the piece, against its best."""
    out = []
    for result in results:
        first, last = tempo_map.meters.bars_at(tempo_map.quarters_at(result.map.seconds[[0, -1]])).tolist()
        for other in result.alternatives:
            maps = [other.map if r is result else r.map for r in results]
            score = other.score - result.hypotheses[0].score
            out.append(Alternative(f"bars {max(1, first)} to {last}: {other.name}", score, joined(maps)))
    return sorted(out, key=lambda a: -a.score)
