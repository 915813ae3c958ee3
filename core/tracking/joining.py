"""What was found in several pieces of one recording, as one result."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tracking.context import AnalysisContext
from core.tracking.hypothesis import compared, rate
from core.tracking.pieces import joined
from core.tracking.results import Alternative, Stretch, TrackingOptions, TrackingResult
from core.tracking.review import review

Ints = NDArray[np.int64]


def joined_results(
    context: AnalysisContext,
    results: Sequence[TrackingResult],
    stretches: Sequence[Stretch],
    options: TrackingOptions,
) -> TrackingResult | None:
    """The results of pieces, which lie in ``stretches`` in order of time and start at time 0 each, as one of the whole
    recording ``context``; None where the beats of one reach into the next, so that these are no pieces. Its
    ``candidate`` is that of the longest piece, as it was found; beats between pieces have features of 0."""
    results = [_later(r, start) for r, (start, _) in zip(results, stretches, strict=True)]
    if not _in_order([r.map for r in results]):
        return None
    tempo_map = joined([r.map for r in results])
    chains = _chains(results)
    confidence, doubts = review(context, tempo_map, options.tempo, chains, stretches)
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
        list(stretches),
    )


def _later(result: TrackingResult, frames: int) -> TrackingResult:
    """A result with its maps and chains so many frames later."""

    def moved(tempo_map: TempoMap) -> TempoMap:
        return tempo_map.with_points(tempo_map.seconds + frames / FRAME_RATE, tempo_map.quarters, tempo_map.pins)

    return replace(
        result,
        map=moved(result.map),
        alternatives=[replace(a, map=moved(a.map)) for a in result.alternatives],
        hypotheses=[replace(h, frames=h.frames + frames, exact_tempo=None) for h in result.hypotheses],
    )


def _chains(results: Sequence[TrackingResult]) -> list[Ints]:
    """The beats (frames) of the pieces' best hypotheses as one chain, with none between them; then of the second ones,
    and so on."""
    most = max(len(r.hypotheses) for r in results)
    rows = [[r.hypotheses[k].frames for r in results if k < len(r.hypotheses)] for k in range(most)]
    return [_one_after_the_other(row) for row in rows]


def _one_after_the_other(chains: Sequence[Ints]) -> Ints:
    """Chains as one; where one reaches into the next, as pieces may lie close together, its last beats are left out."""
    return np.concatenate([*(one[one < other[0]] for one, other in pairwise(chains)), chains[-1]])


def _in_order(maps: Sequence[TempoMap]) -> bool:
    """Whether all beats of each map lie before those of the next."""
    return all(one.seconds[-1] < other.seconds[0] for one, other in pairwise(maps))


def _alternatives(results: Sequence[TrackingResult], tempo_map: TempoMap) -> list[Alternative]:
    """The whole map with another reading of one piece; scores are those within the piece, against its best."""
    out = []
    for result in results:
        first, last = tempo_map.meters.bars_at(tempo_map.quarters_at(result.map.seconds[[0, -1]])).tolist()
        for other in result.alternatives:
            maps = [other.map if r is result else r.map for r in results]
            score = other.score - result.hypotheses[0].score
            if not _in_order(maps):  # its last beats would lie in the next piece
                continue
            out.append(Alternative(f"bars {max(1, first)} to {last}: {other.name}", score, joined(maps)))
    return sorted(out, key=lambda a: -a.score)
