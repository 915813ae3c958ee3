"""Looking at a map again after it was edited: how sure each beat is now, and what doubts are left or new."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from core.beats import bars, certainty, refine, tempo
from core.beats.doubts import LISTEN, WRONG, Doubt, Remedy, doubts_of
from core.beats.laying import Laid
from core.beats.scene import Scene
from core.listening.spectrum import FRAME_RATE
from core.tempomap import TempoMap

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


def review(scene: Scene, tempo_map: TempoMap) -> tuple[Floats, list[Doubt]]:
    """Confidence a felt beat, and the doubts about the map as it stands, in order of time.

    Takes some tenths of a second for a song: nothing is decoded, the chain is only asked how well it fits.
    """
    beats = tempo_map.beats()
    frames = np.clip(np.round(beats.seconds * FRAME_RATE).astype(np.int64), 0, len(scene.curve) - 1)
    if len(frames) < 8 or (np.diff(frames) < 5).any():
        return np.ones(len(frames)), []
    placed = refine.to_attacks(beats.seconds, scene.players, scene.ranks, scene.curve)
    sure = certainty.confidence(certainty.posterior(scene.curve, frames), placed.support)
    count = _rated(scene, frames)
    evidence = bars.downbeat_evidence(scene.players, scene.mix, frames)
    laid = Laid(tempo_map, placed.support, count, _division(tempo_map), evidence)
    found = doubts_of(scene, laid, tempo_map, sure, [count, *_other_counts(scene, frames)])
    return sure, [*_beside_the_attacks(tempo_map, beats.seconds, placed), *_off_beat(scene, tempo_map, frames), *found]


def _rated(scene: Scene, frames: Ints) -> tempo.Count:
    return tempo.measure(scene.curve, frames, *tempo.USUAL_RANGE, scene.mix.flux)


def _division(tempo_map: TempoMap) -> bars.Bars:
    beats = tempo_map.beats()
    downs = np.flatnonzero(beats.beat == 1)
    lengths = np.diff(downs)
    main = int(np.bincount(lengths).argmax()) if len(lengths) else tempo_map.meters.meter_at(1).beats
    return bars.Bars(downs, main, 0.0, {})


def _other_counts(scene: Scene, frames: Ints) -> list[tempo.Count]:
    """The same beats counted at half and at double speed."""
    middles = ((frames[:-1] + frames[1:]) // 2).astype(np.int64)
    chains = [frames[::2], frames[1::2], np.sort(np.concatenate([frames, middles]))]
    return [_rated(scene, chain) for chain in chains if len(chain) >= 8]


def _off_beat(scene: Scene, tempo_map: TempoMap, frames: Ints) -> list[Doubt]:
    """The off-beats would make better beats."""
    middles = ((frames[:-1] + frames[1:]) // 2).astype(np.int64)
    mine, theirs = _rated(scene, frames), _rated(scene, middles)
    if theirs.score < mine.score + 0.05:
        return []
    first = tempo_map.beats()
    words = "More happens half-way between the beats than on them: is everything half a beat off?"
    remedies = [
        Remedy("half a beat later", {"kind": "offbeat", "share": 0.5}),
        Remedy("half a beat earlier", {"kind": "offbeat", "share": -0.5}),
    ]
    # the likelier way first: where the downbeats would sound more like downbeats
    sounds = bars.downbeat_evidence(scene.players, scene.mix, middles)
    downs = np.flatnonzero(tempo_map.beats().beat == 1)
    downs = downs[(downs > 0) & (downs < len(sounds))]
    if len(downs) and sounds[downs - 1].mean() > sounds[downs].mean():
        remedies.reverse()
    at = float(first.seconds[0])
    return [Doubt("phase", at, at + 0.5, int(first.bar[0]), int(first.index[0]), WRONG, words, remedies)]


def _beside_the_attacks(tempo_map: TempoMap, seconds: Floats, placed: refine.Placed) -> list[Doubt]:
    """The whole map lies early or late: the same distance to the attacks nearly everywhere."""
    off = (placed.seconds - seconds)[placed.support > 0.12]  # attacks far beside a beat support it little
    if len(off) < 16:
        return []
    by = float(np.median(off))
    if abs(by) < 0.012 or float(np.median(np.abs(off - by))) > 0.6 * abs(by):
        return []
    late = "late" if by < 0 else "early"
    words = f"The whole map lies about {abs(1000 * by):.0f} ms {late} against the attacks."
    remedy = Remedy(f"move all by {1000 * by:+.0f} ms", {"kind": "shift", "by": round(by, 4)})
    first = tempo_map.beats()
    at = float(first.seconds[0])
    return [Doubt("late", at, at + 0.5, int(first.bar[0]), int(first.index[0]), LISTEN, words, [remedy])]


def without(doubts: list[Doubt], stretches: list[tuple[float, float]]) -> list[Doubt]:
    """Doubts that do not lie within approved stretches (seconds)."""
    return [d for d in doubts if not any(a <= d.start + 1e-6 and d.end <= b + 1e-6 for a, b in stretches)]


__all__ = ["review", "without"]
