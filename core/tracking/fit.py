"""How well a map fits the recording: its beats in the decoder's own model, its bar lines by the evidence of downbeats,
its tempo level as a hypothesis. Maps of the same take are compared by it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.bar_lines import lines_of
from core.tempomap.counting import rescale
from core.tracking.bars import irregularity
from core.tracking.context import AnalysisContext
from core.tracking.decoder import SHARPNESS
from core.tracking.downbeats import downbeat_evidence
from core.tracking.hypothesis import compared, rate
from core.tracking.parameters import BETTER_OFF_BEATS, FEWEST_BEATS, STRICT
from core.tracking.tempo_freedom import tempo_cost


def struck_fit(context: AnalysisContext, tempo_map: TempoMap) -> float:
    """How much is struck on a map's beats, whatever their tempo, in nats."""
    return SHARPNESS * _struck(context, _frames(context, tempo_map))


def beats_fit(context: AnalysisContext, tempo_map: TempoMap) -> float:
    """How well a map's beats fit: the score of the chain in the decoder's own model, in units of a full attack."""
    frames = _frames(context, tempo_map)
    gaps = np.diff(frames).astype(np.float64)
    if len(gaps) < 2 or (gaps <= 0).any():
        return -np.inf
    return _struck(context, frames) - tempo_cost(gaps)


def _frames(context: AnalysisContext, tempo_map: TempoMap) -> NDArray[np.int64]:
    """The frames of a map's beats inside the recording."""
    frames = np.round(tempo_map.beats().seconds * FRAME_RATE).astype(np.int64)
    return frames[(frames >= 0) & (frames < len(context.decoding_curve))]


def _struck(context: AnalysisContext, frames: NDArray[np.int64]) -> float:
    """What beats at these frames gain, less what each costs, in units of a full attack."""
    near = np.max([np.roll(context.decoding_curve, k) for k in (-1, 0, 1)], axis=0)
    return float((near[frames] - STRICT.beat).sum())


#: The evidence of downbeats by the frames of the beats: it takes a while, and many remedies leave the beats alone.
Known = dict[bytes, NDArray[np.float64]]


def bars_fit(context: AnalysisContext, tempo_map: TempoMap, known: Known | None = None) -> float:
    """How well a map's bar lines fit, in nats: how likely its lines are downbeats and its other beats none, less what
    odd bars cost. ``known``: evidence that was calculated before."""
    known = {} if known is None else known
    beats = tempo_map.beats()
    frames = np.clip(np.round(beats.seconds * FRAME_RATE).astype(np.int64), 0, len(context.onset_envelope) - 1)
    if len(frames) < FEWEST_BEATS:
        return 0.0
    key = frames.tobytes()
    if key not in known:
        known[key] = downbeat_evidence(context, frames)
    evidence = known[key]
    as_called = np.where(beats.beat == 1, evidence, -evidence)
    return float(-np.logaddexp(0, -as_called).sum() - irregularity(lines_of(tempo_map)[0]))


def take_gain(
    context: AnalysisContext, before: TempoMap, after: TempoMap, piece: tuple[int, int] | None = None
) -> float:
    """By how much better the tempo level of ``after`` fits the whole take, or of several pieces the one in ``piece``
    (first frame and the one behind it), in nats."""
    chains = [_frames(context, m) for m in (before, after)]
    if piece:
        context = context.between(*piece)
        chains = [c[(c >= piece[0]) & (c < piece[1])] for c in chains]
    if min(map(len, chains)) < FEWEST_BEATS:
        return -np.inf
    was, now = compared([rate(context, c) for c in chains])
    return now.score - was.score


def kept_beats(context: AnalysisContext, tempo_map: TempoMap, times: int, over: int) -> int:
    """Which of ``over`` old beats, counted from bar 1, stays where ``times`` are counted instead: bar 1's own, unless
    the new count fits the whole take clearly better with another."""
    chains = [_frames(context, rescale(tempo_map, times, over, offset=k)) for k in range(over)]
    if min(map(len, chains)) < FEWEST_BEATS:
        return 0
    scores = [h.score for h in compared([rate(context, c) for c in chains])]
    best = int(np.argmax(scores))
    return best if scores[best] >= scores[0] + BETTER_OFF_BEATS else 0


def fit(context: AnalysisContext, tempo_map: TempoMap, known: Known | None = None) -> float:
    """How well a map's beats and bar lines fit together, in nats."""
    return SHARPNESS * beats_fit(context, tempo_map) + bars_fit(context, tempo_map, known)
