"""Known beats and bar lines of a take, what of a map is wrong against them, and maps with typical mistakes in them."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass

import numpy as np

from core.tempomap import Meter, TempoMap, edits, grain, reach
from core.tempomap.bar_lines import with_lines
from core.tempomap.counting import rescale
from core.tempomap.edits import EditError

RIGHT = 0.03  # seconds


@dataclass
class Truth:
    """Known beats and downbeats, in seconds, from the first downbeat on."""

    beats: np.ndarray
    downbeats: np.ndarray
    meters: list[dict]

    def meter(self, first: int, last: int) -> str | None:
        """The one meter of the bars between two downbeats, by their places; None where they differ."""
        rows = [self.meters[[m["bar"] <= k + 1 for m in self.meters].count(True) - 1] for k in range(first, last)]
        found = {f"{m['num']}/{m['den']}" for m in rows}
        return found.pop() if len(found) == 1 else None

    def wrong(self, tempo_map: TempoMap) -> tuple[int, int]:
        """Beats and bar lines that are missing, beside their place, or too many."""
        found = tempo_map.beats()
        inside = (found.seconds > self.beats[0] - 0.1) & (found.seconds < self.beats[-1] + 0.1)
        seconds, beat = found.seconds[inside], found.beat[inside]
        return unmatched(self.beats, seconds), unmatched(self.downbeats, seconds[beat == 1], 0.07)

    def wrong_places(self, tempo_map: TempoMap) -> list[tuple[float, float]]:
        """Stretches, from true downbeat to true downbeat, that hold a wrong beat or bar line."""
        found = tempo_map.beats()
        out: list[tuple[float, float]] = []
        downs = self.downbeats
        for a, b in zip(downs, downs[1:], strict=False):
            here = (found.seconds > a - RIGHT) & (found.seconds < b + RIGHT)
            true = self.beats[(self.beats >= a - 1e-6) & (self.beats <= b + 1e-6)]
            lines = found.seconds[here & (found.beat == 1)]
            if unmatched(true, found.seconds[here]) or unmatched(np.array([a, b]), lines, 0.07):
                if out and abs(out[-1][1] - a) < 1e-6:
                    out[-1] = (out[-1][0], float(b))
                else:
                    out.append((float(a), float(b)))
        return out


def unmatched(truth: np.ndarray, found: np.ndarray, within: float = RIGHT) -> int:
    """True times without a found one nearby, and found ones without a true one."""
    if not len(truth) or not len(found):
        return len(truth) + len(found)
    gaps = np.abs(truth[:, None] - found[None, :])
    return int((gaps.min(axis=1) > within).sum() + (gaps.min(axis=0) > within).sum())


def spoilings(right: TempoMap) -> dict[str, TempoMap]:
    """Ten typical mistakes, each made in a map that is right."""
    middle = right.bar_range[1] // 2
    a, b = (float(t) for t in right.bar_seconds([middle, middle + 4]))
    first, last = (round(float(right.beat_index_at(t))) for t in (a, b))
    moved = np.where((right.seconds > a) & (right.seconds < b), right.seconds + 0.06, right.seconds)
    between = float(right.seconds_of_beat(first + 2.5))
    made = {
        "half tempo": lambda: rescale(right, 1, 2),
        "double tempo": lambda: rescale(right, 2, 1),
        "double in four bars": lambda: rescale(right, 2, 1, first, last),
        "every downbeat a beat late": lambda: edits.shift_downbeat(right, 1),
        "half a beat late": lambda: reach.shift_by_beats(right, 0.5),
        "all 40 ms late": lambda: reach.shift(right, 0.04),
        "four bars 60 ms late": lambda: right.with_points(moved, right.quarters),
        "a beat too many": lambda: edits.insert_beat(right, between),
        "a beat too few": lambda: edits.remove_beat(right, first + 2),
        "steady over eight bars": lambda: grain.steady(right, max(0, first - 16), first + 16),
    }
    out = {}
    for name, spoil in made.items():
        with suppress(EditError):
            out[name] = spoil()
    return out


def right_map(facts: dict) -> TempoMap:
    """The map of known beats, with an odd bar wherever the downbeats have one."""
    beats, downs = np.array(facts["beats"]), np.array(facts["downbeats"])
    lines = [int(np.argmin(np.abs(beats - d))) for d in downs]
    main = Meter(facts["meters"][0]["num"], facts["meters"][0]["den"])
    return with_lines(TempoMap.from_beats(beats), lines, [main] * len(lines))
