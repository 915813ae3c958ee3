"""Doubts about the whole take: its tempo level, beats that should be off-beats, every bar line on another beat.

Each is a probability that the reading is wrong, fitted on made-up takes (``training/fit.py``).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from core.beats import bars
from core.beats.certainty import margin
from core.beats.doubt import LISTEN, WRONG, Doubt, Remedy, about_all
from core.beats.fitted import fitted
from core.beats.hypothesis import USUAL_RANGE, TempoHypothesis, score_hypothesis
from core.beats.laying import Laid
from core.beats.scene import Scene
from core.tempomap import TempoMap

Floats = NDArray[np.float64]

#: A tempo, and bar lines, that are wrong at least so probably are doubted.
DOUBTED, DOUBTED_BAR_LINES = 0.2, 0.2
#: Log-odds that the tempo level is wrong: a constant, and per unit of the margin to the next hypothesis and of the
#: agreement with the beat activation.
LEVEL = fitted("level")
#: The same that every bar line stands on a wrong beat: per nat by which downbeats stand out of the next likely beats.
BAR_LINES = fitted("bar lines")
#: The median confidence under which the take as a whole is doubted.
UNSURE_TAKE = 0.6
#: By how many nats off-beats have to be more convincing than the beats.
_MORE = 0.5

_RATIOS = (
    (0.5, "half the tempo", {"kind": "half"}),
    (2.0, "double the tempo", {"kind": "double"}),
    (1.5, "3:2 of the tempo", {"kind": "ratio", "ratio": "3:2"}),
    (2 / 3, "2:3 of the tempo", {"kind": "ratio", "ratio": "2:3"}),
)


def _probability(weights: dict[str, float], **numbers: float) -> float:
    z = weights["constant"] + sum(weights[name] * number for name, number in numbers.items())
    return float(1 / (1 + np.exp(-z)))


def wrong_level(best: TempoHypothesis, rivals: Sequence[TempoHypothesis]) -> float:
    """How probably the take is counted at a wrong tempo."""
    return _probability(LEVEL, margin=margin(best, rivals), agreement=best.numbers.get("agreement", 0.0))


def level(tempo_map: TempoMap, ways: Sequence[TempoHypothesis]) -> list[Doubt]:
    """Another tempo may be meant. ``ways``: the hypothesis that the map follows, then the others."""
    best = ways[0]
    p = wrong_level(best, ways[1:])
    if p < DOUBTED:
        return []
    remedies: list[Remedy] = []
    tempos: list[str] = []
    for way in sorted(ways[1:], key=lambda w: -w.score):
        for ratio, words, edit in _RATIOS:
            if abs(np.log(way.bpm / best.bpm / ratio)) < 0.08 and all(r.words != words for r in remedies):
                remedies.append(Remedy(words, edit))
                tempos.append(f"{way.bpm:.0f}")
    if not remedies:
        return []
    words = f"{' or '.join(tempos[:2])} beats a minute fit almost as well as {best.bpm:.0f}."
    return [about_all("level", tempo_map, WRONG if p > 0.6 else LISTEN, words, remedies[:3])]


def off_beat(scene: Scene, tempo_map: TempoMap, laid: Laid) -> list[Doubt]:
    """The off-beats would make better beats."""
    best, frames = laid.count, laid.count.frames
    if len(frames) < 16:
        return []
    middles = ((frames[:-1] + frames[1:]) // 2).astype(np.int64)
    other = score_hypothesis(scene.curve, middles, *USUAL_RANGE, scene.ear[:, 0])
    if other.score < best.score + _MORE:
        return []
    words = "More happens half-way between the beats than on them: is everything half a beat off?"
    remedies = [
        Remedy("half a beat later", {"kind": "offbeat", "share": 0.5}),
        Remedy("half a beat earlier", {"kind": "offbeat", "share": -0.5}),
    ]
    # the likelier way first: where the downbeats would sound more like downbeats
    sounds = bars.downbeat_evidence(scene.players, scene.mix, middles, scene.ear)
    downs = laid.division.downbeats[(laid.division.downbeats > 0) & (laid.division.downbeats < len(sounds))]
    if len(downs) and sounds[downs - 1].mean() > sounds[downs].mean():
        remedies.reverse()
    return [about_all("phase", tempo_map, WRONG, words, remedies)]


def faint(scene: Scene, tempo_map: TempoMap, best: TempoHypothesis, sure: Floats) -> list[Doubt]:
    """Hardly a beat is sure all through the take: it may stand elsewhere altogether. ``sure``: confidence a beat."""
    frames = best.frames
    if len(frames) < 16 or float(np.median(sure)) > UNSURE_TAKE:
        return []

    def rated(by: float) -> float:
        shifted = np.round(frames[:-1] + by * np.diff(frames)).astype(np.int64)
        return score_hypothesis(scene.curve, shifted, *USUAL_RANGE, scene.ear[:, 0]).score

    names = {0.25: "a quarter of a beat later", 0.5: "half a beat later", 0.75: "a quarter of a beat earlier"}
    order = sorted(names, key=lambda by: -rated(by))[:2]
    remedies = [Remedy(names[by], {"kind": "offbeat", "share": by if by < 0.6 else by - 1}) for by in order]
    words = "Nobody marks the beat clearly in this take: all of it may be wrong."
    return [about_all("phase", tempo_map, LISTEN, words, remedies)]


def gaps(downbeats: NDArray[np.int64], beats: int, evidence: Floats) -> Floats:
    """By how much the downbeats' evidence exceeds that of each other beat of the bar, ``(beats - 1,)``, in nats."""
    own = evidence[downbeats].mean()
    others = [evidence[(downbeats + by)[downbeats + by < len(evidence)]] for by in range(1, beats)]
    return np.array([own - (o.mean() if len(o) else -np.inf) for o in others])


def bar_lines(tempo_map: TempoMap, laid: Laid) -> list[Doubt]:
    """Every bar line may stand on another beat of the bar."""
    downs, beats = laid.division.downbeats, laid.division.beats
    if beats < 2 or len(downs) < 6:
        return []
    found = gaps(downs, beats, laid.evidence)
    p = _probability(BAR_LINES, gap=float(found.min()))
    if p < DOUBTED_BAR_LINES:
        return []
    shifts = [int(k) + 1 for k in np.argsort(found)[:2]]
    remedies = [Remedy(f"move every downbeat {beats_later(by)}", {"kind": "downbeat", "by": by}) for by in shifts]
    words = f"Beat {shifts[0] + 1} sounds almost as much like beat 1 as the beat that is counted as 1."
    return [about_all("bar lines", tempo_map, LISTEN, words, remedies)]


def beats_later(by: int) -> str:
    """One beat later, two beats later."""
    return f"{('one', 'two', 'three', 'four', 'five', 'six')[by - 1]} beat{'s' * (by > 1)} later"
