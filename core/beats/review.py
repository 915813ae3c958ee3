"""Looking at a map again after it was edited: how sure each beat is now, and what doubts are left or new."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from core.beats import bars, certainty, refine, steady
from core.beats.doubt import LISTEN, WHOLE, Doubt, Remedy, about_all
from core.beats.doubts import doubts_of, felt_as
from core.beats.hypothesis import USUAL_RANGE, TempoHypothesis, score_hypothesis
from core.beats.laying import Laid
from core.beats.scene import Scene
from core.listening.spectrum import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.pulses import has_pulses, pulsed

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


#: Beats whose intervals differ by less than this are those of one exact tempo, in seconds.
_EVEN = 2e-4


def review(scene: Scene, tempo_map: TempoMap, usual: tuple[float, float] = USUAL_RANGE) -> tuple[Floats, list[Doubt]]:
    """Confidence a felt beat, and the doubts about the map as it stands: first those about the whole take, then
    the others in order of time. ``usual``: the tempo range that the engineer expects, felt beats a minute.

    Nothing is decoded, the chain is only asked how well it fits: about a third of a second for four minutes.
    """
    if has_pulses(tempo_map):
        even = pulsed(tempo_map)
        share = len(even.beats()) / len(tempo_map.beats())
        sure, found = review(scene.by_attacks(), even, (usual[0] * share, usual[1] * share))
        at = np.searchsorted(even.beats().quarters, tempo_map.beats().quarters - 1e-6)
        return sure[np.minimum(at, len(sure) - 1)], felt_as(found, even, tempo_map)
    beats = tempo_map.beats()
    frames = np.clip(np.round(beats.seconds * FRAME_RATE).astype(np.int64), 0, len(scene.curve) - 1)
    if len(frames) < 8 or (np.diff(frames) < 5).any():
        return np.ones(len(frames)), []

    def rated(chain: Ints) -> TempoHypothesis:
        return score_hypothesis(scene.curve, chain, *usual, scene.ear[:, 0])

    middles = ((frames[:-1] + frames[1:]) // 2).astype(np.int64)
    count = rated(frames)
    if np.ptp(np.diff(beats.seconds)) < _EVEN:
        count = replace(count, grid=steady.find(scene.players, scene.ranks, scene.pulse, beats.seconds))
    others = [rated(c) for c in (frames[::2], frames[1::2], np.sort(np.append(frames, middles))) if len(c) >= 8]
    placed = refine.to_attacks(beats.seconds, scene.players, scene.ranks, scene.curve, scene.ear[:, 0])
    likely = certainty.posterior(scene.pulse, frames)
    told = certainty.numbers(likely, placed.support, scene.ear[:, 0], beats.seconds, count, others)
    sure = certainty.confidence(told)
    evidence = bars.downbeat_evidence(scene.players, scene.mix, frames, scene.ear)
    laid = Laid(tempo_map, placed.support, count, _division(tempo_map), evidence)
    found = _late(tempo_map, placed)
    rest = doubts_of(scene, laid, tempo_map, sure, [count, *others])
    if found:  # what lies beside the attacks as a whole cannot convince either; one doubt about that is enough
        rest = [d for d in rest if d.kind != "phase"]
    return sure, sorted([*found, *rest], key=lambda d: d.kind not in WHOLE)


def _division(tempo_map: TempoMap) -> bars.Bars:
    beats = tempo_map.beats()
    downs = np.flatnonzero(beats.beat == 1)
    lengths = np.diff(downs)
    main = int(np.bincount(lengths).argmax()) if len(lengths) else tempo_map.meters.meter_at(1).beats
    return bars.Bars(downs, main, 0.0, {})


def _late(tempo_map: TempoMap, placed: refine.Placed) -> list[Doubt]:
    """The whole map lies early or late: the same distance to the attacks nearly everywhere."""
    off = placed.seconds - tempo_map.beats().seconds
    off = off[placed.support > 0.12]  # attacks far beside a beat support it little
    if len(off) < 16:
        return []
    by = float(np.median(off))
    if abs(by) < 0.012 or float(np.median(np.abs(off - by))) > 0.6 * abs(by):
        return []
    words = f"The whole map lies about {abs(1000 * by):.0f} ms {'late' if by < 0 else 'early'} against the attacks."
    remedy = Remedy(f"move all by {1000 * by:+.0f} ms", {"kind": "shift", "by": round(by, 4)})
    return [about_all("late", tempo_map, LISTEN, words, [remedy])]
