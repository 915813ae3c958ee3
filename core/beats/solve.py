"""From players to a tempo map: guide, count, bars, attacks, in that order."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from core.beats import bars, fusion, refine, tempo
from core.beats.fusion import GuideRank, Player
from core.listening.spectrum import FRAME_RATE
from core.tempomap import Meter, MeterChange, Meters, TempoMap

Floats = NDArray[np.float64]
#: Called with a stage name in plain words and the share done, 0 to 1; may raise to stop the work.
Progress = Callable[[str, float], None]


class NoBeats(ValueError):
    """No beats could be found, in words for the engineer."""


@dataclass(frozen=True)
class Wishes:
    """What the engineer says beforehand. ``tempo`` in felt beats a minute; ``guides`` weights by name."""

    tempo: tuple[float, float] = tempo.USUAL_RANGE
    meter: Meter | None = None
    guides: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Solution:
    """A map, how sure each of its beats is (0 to 1, one a felt beat), and how each track served as guide."""

    map: TempoMap
    confidence: Floats
    ranks: list[GuideRank]


def solve(players: Sequence[Player], wishes: Wishes = Wishes(), progress: Progress = lambda *_: None) -> Solution:
    """Find beats and bars. Raises :class:`NoBeats`."""
    heard = [p for p in players if len(p.attacks) >= 4]
    if not heard:
        raise NoBeats("No beats found: the tracks hold hardly an attack. Is this the right material?")
    progress("Choosing the guide", 0.0)
    ranks = fusion.rank(heard, wishes.guides)
    curve = fusion.fuse(heard, ranks)
    progress("Counting", 0.1)
    ways = tempo.counts(curve, wishes.tempo, progress=lambda x: progress("Counting", 0.1 + 0.6 * x))
    if not ways:
        raise NoBeats("No beats found: nothing repeats long enough to count along. Try another tempo range.")
    count = ways[0]
    progress("Finding the bars", 0.7)
    mix = bars.Mix.of(heard)
    evidence = bars.downbeat_evidence(heard, mix, count.frames)
    wanted = wishes.meter.beats if wishes.meter else None
    division = bars.divide(evidence, bars.repetition(mix, count.frames), wanted, count.ternary)
    meter = wishes.meter or _meter_of(division.beats, count.ternary)
    progress("Placing beats on attacks", 0.85)
    placed = refine.to_attacks(count.frames / FRAME_RATE, heard, ranks, curve)
    placed = refine.to_attacks(placed.seconds, heard, ranks, curve)  # lateness shows better at placed beats
    first = _first_bar(mix, count.frames, division.downbeats)
    meters = _meters(np.diff(division.downbeats[first:]), meter)
    tempo_map = TempoMap.from_beats(placed.seconds, -int(division.downbeats[first]), meters)
    progress("Done", 1.0)
    everyone = {r.name: r for r in ranks}
    silent = GuideRank("", 0.0, 0.0, 0.0, "hardly an attack")
    return Solution(
        tempo_map,
        0.3 + 0.7 * placed.support,
        [everyone.get(p.name, GuideRank(p.name, *list(silent.__dict__.values())[1:])) for p in players],
    )


def _meter_of(beats: int, ternary: bool) -> Meter:
    return Meter(beats * 3, 8) if ternary and beats in (2, 3, 4) else Meter(beats, 4)


def _meters(lengths: NDArray[np.int64], main: Meter) -> Meters:
    """The meter of each bar from its number of felt beats, bar 1 first; then the main meter."""

    def meter(beats: int) -> Meter:
        if beats == main.beats:
            return main
        return Meter(beats * main.groups[0], main.denominator, (main.groups[0],) * beats)

    changes = [MeterChange(i + 1, meter(int(n))) for i, n in enumerate(lengths)]
    return Meters((*changes, MeterChange(len(changes) + 1, main)))


def _first_bar(mix: bars.Mix, frames: NDArray[np.int64], downbeats: NDArray[np.int64]) -> int:
    """Which of the downbeats opens bar 1: the first from which on the band plays, past a bare count-in."""
    level = mix.energy.sum(axis=1)
    per_bar = [
        level[frames[a] : frames[min(b, len(frames) - 1)]].mean()
        for a, b in zip(downbeats, [*downbeats[1:], len(frames) - 1], strict=True)
        if frames[min(b, len(frames) - 1)] > frames[a]
    ]
    playing = np.array(per_bar) > 0.45 * np.median(per_bar)
    return int(np.argmax(playing)) if playing.any() else 0
