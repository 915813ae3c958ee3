"""Finding beats, start to end: scene, counts, the map of the best one, how sure it is, and what else it may be."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from core.beats import certainty, ends, steady, tempo, uneven
from core.beats.doubt import Doubt
from core.beats.doubts import doubts_of, felt_as
from core.beats.fusion import GuideRank, Player
from core.beats.hypothesis import USUAL_RANGE, TempoHypothesis, score_hypothesis
from core.beats.laying import Laid, in_meter, lay
from core.beats.scene import NoBeats, Scene, look
from core.listening.spectrum import FRAME_RATE
from core.tempomap import Meter, MeterChange, Meters, TempoMap
from core.tempomap.pulses import is_uneven, pulse_of

Floats = NDArray[np.float64]
#: Called with a stage name in plain words and the share done, 0 to 1; may raise to stop the work.
Progress = Callable[[str, float], None]


@dataclass(frozen=True)
class Wishes:
    """What the engineer says beforehand.

    ``tempo`` in felt beats a minute; ``guides``: weights by track name; ``start`` and ``end``: seconds between
    which the mapped music lies; ``pins``: seconds that have to be beats; ``steady``: one exact tempo (True),
    never (False), or as it sounds (None).
    """

    tempo: tuple[float, float] = USUAL_RANGE
    meter: Meter | None = None
    guides: Mapping[str, float] = field(default_factory=dict)
    start: float | None = None
    end: float | None = None
    pins: Sequence[float] = ()
    steady: bool | None = None


@dataclass(frozen=True)
class Alternative:
    """Another way to read the whole take, ready to be used; ``score`` compares with the chosen one's."""

    name: str
    score: float
    map: TempoMap


@dataclass(frozen=True)
class Solution:
    """A map, how sure each of its beats is (0 to 1, one a felt beat), how each track served as guide, where the
    map may be wrong, and the other readings, the likeliest first. ``numbers``: what confidence is made of, see
    :func:`core.beats.certainty.numbers`; ``hypotheses``: the chosen one and the others; ``laid``: what bars were laid
    by."""

    map: TempoMap
    confidence: Floats
    ranks: list[GuideRank]
    doubts: list[Doubt]
    alternatives: list[Alternative]
    numbers: Floats
    hypotheses: list[TempoHypothesis]
    laid: Laid


def solve(players: Sequence[Player], wishes: Wishes = Wishes(), progress: Progress = lambda *_: None) -> Solution:
    """Find beats and bars. Raises :class:`NoBeats`."""
    progress("Choosing the guide", 0.0)
    scene = look(players, wishes.guides)
    if wishes.meter and is_uneven(wishes.meter):
        share = wishes.meter.numerator / wishes.meter.beats
        low, high = uneven.FELT if wishes.tempo == USUAL_RANGE else wishes.tempo
        return _uneven(players, wishes, scene, wishes.meter, (low * share, high * share), progress)
    if wishes.meter is None and (found := uneven.bar_of_pulses(scene, wishes.tempo[1])):
        count, pace = found
        return _uneven(players, wishes, scene, Meter(count, 8), (pace / 1.25, pace * 1.25), progress)
    if wishes.meter and wishes.meter.beats == wishes.meter.numerator and wishes.meter.denominator > 4:
        scene = scene.by_attacks()
    pins = np.array(sorted(wishes.pins), dtype=np.float64)
    ways = hypotheses(scene, wishes, progress)
    pulse, curve = (_between(x, wishes.start, wishes.end) for x in (scene.pulse, scene.curve))
    progress("Laying the bars, placing beats on attacks", 0.6)
    # compiled posteriors leave the interpreter free to lay the other counts meanwhile
    with ThreadPoolExecutor(1) as pool:
        asked = pool.submit(certainty.posterior, pulse, ways[0].frames)
        rivals = [lay(scene, way, wishes.meter) for way in ways[1:4]]
        likely = asked.result()
    inside = ends.widened(ways[0].frames, certainty.music(likely), scene.players, curve)
    best = lay(scene, replace(ways[0], frames=ways[0].frames[inside]), wishes.meter, pins)
    progress("Asking how sure it is", 0.7)
    kept = np.isin(ways[0].frames, best.count.frames)
    told = certainty.numbers(likely[kept], best.support, scene.ear[:, 0], best.map.seconds, ways[0], ways[1:])
    sure = certainty.confidence(told)
    tempo_map = steady.straightened(best.map, best.count.grid) if best.count.grid else best.map
    progress("Looking for other readings", 0.8)
    others = _alternatives(scene, best, rivals, wishes)
    doubts = doubts_of(scene, best, tempo_map, sure, ways)
    progress("Done", 1.0)
    return Solution(tempo_map, sure, scene.all_ranks([p.name for p in players]), doubts, others, told, ways, best)


def _uneven(
    players: Sequence[Player],
    wishes: Wishes,
    scene: Scene,
    meter: Meter,
    pace: tuple[float, float],
    progress: Progress,
) -> Solution:
    """A meter of unequal felt beats, like 2+2+3/8: its even pulse is found, then felt in the meter's groups, or where
    no meter was asked for, in those that are struck. ``pace``: pulses a minute from and to."""
    pulses = pulse_of(meter)
    found = solve(players, replace(wishes, meter=pulses, tempo=pace), progress)
    if wishes.meter is None:
        beats = found.map.beats()
        frames = np.round(beats.seconds * FRAME_RATE).astype(np.int64)
        meter = uneven.grouped(scene, frames, np.flatnonzero(beats.beat == 1), pulses.beats)

    def felt(tempo_map: TempoMap) -> TempoMap:
        changes = (MeterChange(c.bar, meter if c.meter == pulses else c.meter) for c in tempo_map.meters.changes)
        return replace(tempo_map, meters=Meters(tuple(changes)))

    tempo_map = felt(found.map)
    at = np.searchsorted(found.map.beats().quarters, tempo_map.beats().quarters - 1e-6)
    others = [replace(a, map=felt(a.map)) for a in found.alternatives]
    doubts = felt_as(found.doubts, found.map, tempo_map)
    at = np.minimum(at, len(found.confidence) - 1)
    return replace(
        found,
        map=tempo_map,
        confidence=found.confidence[at],
        doubts=doubts,
        alternatives=others,
        numbers=found.numbers[at],
    )


def hypotheses(scene: Scene, wishes: Wishes, progress: Progress = lambda *_: None) -> list[TempoHypothesis]:
    """Ways to count the take, the most convincing first. Raises :class:`NoBeats`."""
    pins = np.round(np.array(sorted(wishes.pins)) * FRAME_RATE).astype(np.int64)
    pulse, curve = (_between(x, wishes.start, wishes.end) for x in (scene.pulse, scene.curve))
    progress("Counting", 0.1)
    ways = tempo.counts(
        curve,
        wishes.tempo,
        progress=lambda x: progress("Counting", 0.1 + 0.5 * x),
        pins=pins,
        activation=scene.ear[:, 0],
        pulse=pulse,
    )
    if not ways:
        raise NoBeats("No beats found: nothing repeats long enough to count along. Try another tempo range.")
    # a pin says that here is no machine, unless the engineer says so too
    if wishes.steady or (wishes.steady is None and not len(pins)):
        return _steadied(scene, ways, wishes)
    return ways


def _steadied(scene: Scene, ways: list[TempoHypothesis], wishes: Wishes) -> list[TempoHypothesis]:
    """The ways as even grids where the take has one exact tempo (or is said to), the most convincing first; else as
    they are."""

    def grid_of(way: TempoHypothesis) -> steady.Grid | None:
        return steady.find(scene.players, scene.ranks, scene.pulse, way.frames / FRAME_RATE)

    first = grid_of(ways[0])
    if first is None or not (wishes.steady or first.is_even):
        return ways
    found = [(ways[0], first), *((way, grid_of(way)) for way in ways[1:])]
    out: list[TempoHypothesis] = []
    for way, grid in found:
        if grid is not None and (wishes.steady or grid.is_even):
            beats = grid.beats(way.frames[0] / FRAME_RATE, way.frames[-1] / FRAME_RATE)
            frames = np.round(beats * FRAME_RATE).astype(np.int64)
            frames = frames[(frames >= 0) & (frames < len(scene.curve))]
            again = score_hypothesis(scene.curve, frames, *wishes.tempo, scene.ear[:, 0])
            if all(abs(np.log(again.bpm / other.bpm)) > 0.03 for other in out):
                out.append(replace(again, grid=grid))
    return sorted(out, key=lambda x: -x.score)


def _between(curve: Floats, start: float | None, end: float | None) -> Floats:
    """The curve with nothing to gain outside the music's ends."""
    out = curve.copy()
    if start is not None:
        out[: max(0, round(start * FRAME_RATE) - 2)] = -1.0
    if end is not None:
        out[round(end * FRAME_RATE) + 3 :] = -1.0
    return out


_NAMES = ((0.5, "half the tempo"), (2.0, "double the tempo"), (2 / 3, "2:3 of the tempo"), (1.5, "3:2 of the tempo"))


def _alternatives(scene: Scene, best: Laid, rivals: list[Laid], wishes: Wishes) -> list[Alternative]:
    out = []
    for rival in rivals:
        bpm = rival.count.bpm
        name = next((n for r, n in _NAMES if abs(np.log(bpm / best.count.bpm / r)) < 0.06), f"{bpm:.0f} beats a minute")
        out.append(Alternative(name, rival.count.score, rival.map))
    main = best.division.beats
    for beats, score in sorted(best.division.scores.items(), key=lambda item: -item[1]):
        if beats != main and wishes.meter is None and score > best.division.score - 1.5:
            laid = in_meter(scene, best, Meter(beats, 4) if not best.count.ternary else Meter(3 * beats, 8))
            lost = 0.4 * (best.division.score - score)
            out.append(Alternative(f"bars of {laid.map.meters.meter_at(1)}", best.count.score - lost, laid.map))
    first = best.map.meters.changes[0].meter.beats
    for by in range(1, first):
        # how much less the beats there sound like downbeats
        downs = (best.division.downbeats + by)[best.division.downbeats + by < len(best.evidence)]
        lost = float(best.evidence[best.division.downbeats].mean() - best.evidence[downs].mean())
        index = best.map.meters.beat_of_quarters(best.map.quarters) - by
        if index[0] <= 0 < index[-1]:
            quarters = best.map.meters.quarters_of_beat(index)
            shifted = best.map.with_points(best.map.seconds, quarters, best.map.pins)
            out.append(Alternative(f"downbeat {by} later", best.count.score - 0.4 * max(0.0, lost), shifted))
    named: dict[str, Alternative] = {}
    for other in sorted(out, key=lambda a: -a.score):
        named.setdefault(other.name, other)  # of two alike the better
    return list(named.values())
