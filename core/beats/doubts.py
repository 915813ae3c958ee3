"""Where the map may be wrong: beats that are not sure, jumps of tempo, odd bars, loose ends."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from core.beats import whole_take
from core.beats.doubt import LISTEN, LOOK, WRONG, Doubt, Remedy
from core.beats.ends import loudness
from core.beats.fitted import fitted
from core.beats.hypothesis import TempoHypothesis
from core.beats.laying import Laid
from core.beats.scene import Scene
from core.beats.whole_take import beats_later
from core.listening.spectrum import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.pulses import same_place

Floats = NDArray[np.float64]

#: Bars that are looked at together.
SPAN = 6
#: Log-odds that the bar lines of so many bars are wrong, by the gap in nats to another beat; from when on it is said.
_WINDOWS = fitted("windows of bars")
_DOUBTED = 0.2
#: A beat with less confidence is not sure.
UNSURE = 0.8


def doubts_of(
    scene: Scene, laid: Laid, tempo_map: TempoMap, sure: Floats, ways: Sequence[TempoHypothesis]
) -> list[Doubt]:
    """All doubts about a found map, in order of time. ``sure``: confidence a beat."""
    find = _Finder(scene, laid, tempo_map, sure)
    # beats that should be off-beats explain all the rest; then a take in which nobody marks the beat
    phase = whole_take.off_beat(scene, tempo_map, laid)
    faint = [] if phase else whole_take.faint(scene, tempo_map, ways[0], sure)
    bar_lines = whole_take.bar_lines(tempo_map, laid)
    weak = [] if phase or faint else _with_remedies_of(find.weak(), find.beside())
    out = [
        # loose beats at the end are one question
        *_with_remedies_of(find.ends(), weak),
        *find.jumps(),
        *find.odd_bars(),
        *(bar_lines or find.contested()),
        *(phase or faint),
        *([] if phase else whole_take.level(tempo_map, ways)),
    ]
    return sorted(out, key=lambda d: (d.start, -d.severity))


class _Finder:
    """One take's beats and what is needed to doubt them."""

    def __init__(self, scene: Scene, laid: Laid, tempo_map: TempoMap, sure: Floats) -> None:
        self.scene, self.laid, self.sure, self.support = scene, laid, sure, laid.support
        beats = tempo_map.beats()
        n = min(len(beats), len(sure))
        self.t, self.bar, self.index = beats.seconds[:n], beats.bar[:n], beats.index[:n]
        self.gaps = np.diff(self.t)
        self.map = tempo_map

    def doubt(self, kind: str, i: int, j: int, severity: int, reason: str, remedies: Sequence[Remedy] = ()) -> Doubt:
        """About beats ``i`` to ``j``, with half a beat on either side."""
        half = 0.5 * float(np.median(self.gaps))
        return Doubt(
            kind,
            max(0.0, float(self.t[i]) - half),
            float(self.t[j]) + half,
            int(self.bar[i]),
            int(self.index[i]),
            severity,
            reason,
            list(remedies),
        )

    def _again(self, i: int, j: int) -> Remedy:
        a, b = max(0, i - 2), min(len(self.t) - 1, j + 2)
        return Remedy(
            "detect this stretch again", {"kind": "resolve", "from": int(self.index[a]), "to": int(self.index[b])}
        )

    def weak(self) -> list[Doubt]:
        """Runs of beats that the model itself is not sure of, or that no attack supports."""
        out = []
        for i, j in _runs(self.sure < UNSURE, join=2):
            if self.sure[i : j + 1].min() > 0.75:
                continue  # three in four of these are right (docs/measured.md)
            bare = float(np.mean(self.support[i : j + 1])) < 0.1
            worst = float(self.sure[i : j + 1].min())
            severity = WRONG if worst < 0.25 else LISTEN
            n = j - i + 1
            if bare:
                words = f"No attacks at {n} beat{'s' * (n > 1)} here: {'they are' if n > 1 else 'it is'} interpolated."
                out.append(self.doubt("no-attack", i, j, severity, words, [self._again(i, j)]))
            else:
                words = f"The beats here are uncertain: lowest confidence {round(100 * worst)} %."
                out.append(self.doubt("weak", i, j, severity, words, [self._again(i, j), *self._nearest(i)]))
        return out

    def _nearest(self, i: int) -> list[Remedy]:
        """Move the beat to the strongest attack around it."""
        best, at = 0.0, 0.0
        for p, r in zip(self.scene.players, self.scene.ranks, strict=True):
            lo, hi = np.searchsorted(p.attacks.seconds, [self.t[i] - 0.18, self.t[i] + 0.18])
            for k in range(lo, hi):
                worth = r.weight * r.clearness * float(p.attacks.strength[k])
                if abs(p.attacks.seconds[k] - self.t[i]) > 0.025 and worth > best:
                    best, at = worth, float(p.attacks.seconds[k])
        if not best:
            return []
        by = 1000 * (at - self.t[i])
        return [
            Remedy(
                f"move it {by:+.0f} ms to the attack there",
                {"kind": "move", "beat": int(self.index[i]), "to": at, "free": True},
            )
        ]

    def jumps(self) -> list[Doubt]:
        """A tempo far from its neighbours betrays a wrong beat; one very long beat may be a hold."""
        out = []
        g = self.gaps
        for k in range(len(g)):
            around = np.median(g[max(0, k - 4) : k + 5])
            ratio = g[k] / around
            if ratio > 1.6 and (k == 0 or g[k - 1] < 1.45 * around):
                words = f"One beat lasts {ratio:.1f} times its neighbours: a hold, or a beat is missing."
                middle = float(self.t[k] + g[k] / 2)
                remedies = [
                    Remedy(
                        "insert a beat in the middle", {"kind": "insert", "to": middle, "free": False, "reach": 0.06}
                    )
                ]
                out.append(self.doubt("hold", k, k + 1, LISTEN, words, [*remedies, self._again(k, k + 1)]))
            elif abs(np.log(ratio)) > 0.13:
                words = f"The tempo jumps to {60 / g[k]:.0f} where its neighbours have {60 / around:.0f}."
                severity = WRONG if abs(np.log(ratio)) > 0.28 else LISTEN
                out.append(
                    self.doubt("jump", k, k + 1, severity, words, [self._again(k, k + 1), *self._nearest(k + 1)])
                )
        return _merged(out)

    def beside(self) -> list[Doubt]:
        """A strong attack of a clear player close to a beat that has none itself."""
        out = []
        top = max((r.weight * r.clearness for r in self.scene.ranks), default=1.0)
        for i in np.flatnonzero((self.support < 0.15) & (self.sure < 0.6)):
            for p, r in zip(self.scene.players, self.scene.ranks, strict=True):
                if r.weight * r.clearness < 0.5 * top:
                    continue
                a = p.attacks
                lo, hi = np.searchsorted(a.seconds, [self.t[i] - 0.12, self.t[i] + 0.12])
                near = [k for k in range(lo, hi) if abs(a.seconds[k] - self.t[i]) > 0.03 and a.strength[k] > 0.6]
                if near:
                    by = 1000 * (float(a.seconds[near[0]]) - float(self.t[i]))
                    words = f"{p.name} strikes strongly {abs(by):.0f} ms {'after' if by > 0 else 'before'} this beat."
                    out.append(self.doubt("beside", int(i), int(i), LISTEN, words, self._nearest(int(i))))
                    break
        return out

    def odd_bars(self) -> list[Doubt]:
        """Every bar of another length than the main one should be listened to."""
        out = []
        downs = np.flatnonzero(np.diff(self.bar, prepend=self.bar[0] - 1) > 0)
        main = self.laid.division.beats
        for a, b in zip(downs, downs[1:], strict=False):
            n = int(b - a)
            if n != main and self.bar[a] >= 1:
                meter = self.map.meters.meter_at(int(self.bar[a]))
                usual = next((c.meter for c in self.map.meters.changes if c.meter.beats == main), meter)
                remedy = Remedy(
                    f"make it {usual}", {"kind": "meter", "bar": int(self.bar[a]), "meter": usual.felt, "only": True}
                )
                words = f"A bar of {meter} among bars of {main} beats."
                slower = self._slower(downs, main, int(a), int(b)) if n > main else []
                out.append(self.doubt("meter", int(a), int(b), LISTEN, words, [*slower, remedy]))
        return out

    def _slower(self, downs: NDArray[np.intp], main: int, a: int, b: int) -> list[Remedy]:
        """A bar with too many beats where they are not sure: somebody slowed down or held one, and the map ran on."""
        run = next(((i, j) for i, j in _runs(self.sure < UNSURE, join=2) if i < b and j >= a - main), None)
        if run is None:
            return []
        opens, closes = downs[downs <= min(run[0], a)], downs[downs > max(run[1], a)]
        return self._held(int(opens[-1]), int(closes[0]), main) if len(opens) and len(closes) else []

    def _held(self, first: int, last: int, main: int) -> list[Remedy]:
        """Beats ``first`` to ``last`` as whole bars, one for each ``main`` beats that they have room for."""
        bars = (last - first) // main
        if not bars or last >= len(self.t):
            return []
        one, end = int(self.bar[first]), int(self.bar[first]) + bars - 1
        which = f"bar {one} has" if bars == 1 else f"bars {one} to {end} have"
        words = f"it slows down or holds: {which} {main} beats"
        return [Remedy(words, {"kind": "bars", "stretch": [float(self.t[first]), float(self.t[last])], "bars": bars})]

    def contested(self) -> list[Doubt]:
        """Stretches in which another beat of the bar sounds more like a downbeat than the one that is counted."""
        division, evidence = self.laid.division, self.laid.evidence
        main, downs = division.beats, division.downbeats
        out: list[Doubt] = []
        if main < 2 or len(downs) < SPAN:
            return out
        flagged = np.zeros(len(downs), dtype=bool)
        which = np.zeros(len(downs), dtype=int)
        for k in range(len(downs) - SPAN + 1):
            gaps = whole_take.gaps(downs[k : k + SPAN], main, evidence)
            if 1 / (1 + np.exp(-_WINDOWS["constant"] - _WINDOWS["gap"] * gaps.min())) > _DOUBTED:
                flagged[k : k + SPAN] = True
                which[k : k + SPAN] = int(np.argmin(gaps)) + 1
        for i, j in _runs(flagged, join=2):
            by = int(np.bincount(which[i : j + 1]).argmax())
            a, b = int(downs[i]), int(min(downs[j] + main - 1, len(self.t) - 1))
            if a >= len(self.t):
                continue
            words = f"Beat {by + 1} sounds more like beat 1 than the beat that is counted as 1."
            remedies = [Remedy(f"move every downbeat {beats_later(by)}", {"kind": "downbeat", "by": by})]
            # where beats are unsure before it, somebody held one, and the map ran on
            run = next((r for r in _runs(self.sure < UNSURE, join=2) if a - main <= r[0] < b and r[1] - r[0] > 1), None)
            if run and len(later := downs[downs > run[1]] + by) and len(opens := downs[downs <= run[0]]):
                remedies = [*self._held(int(opens[-1]), int(later[0]), main), *remedies]
            severity = WRONG if j - i > 0.5 * len(downs) else LISTEN
            out.append(self.doubt("downbeat", a, b, severity, words, remedies))
        return out

    def ends(self) -> list[Doubt]:
        """The last beats, where the music comes apart or runs on."""
        if len(self.t) < 8:
            return []
        n = len(self.t)
        out = []
        gap = float(np.median(self.gaps[-8:]))
        begins, goes_on = self._music_outside()
        if begins < self.t[0] - 1.2 * gap:
            words = "Something sounds before the first beat: a count-in, or music that the map leaves out?"
            out.append(replace(self.doubt("end", 0, 0, LOOK, words), start=begins))
        weak_end = self.support[-3:].min() < 0.25 or float(self.sure[-3:].min()) < 0.8
        more = goes_on > self.t[-1] + 0.6 * gap
        if weak_end or more:
            words = (
                "The music goes on after the last beat."
                if more
                else "The last beats are uncertain: does the music end earlier?"
            )
            out_with_it = Remedy("take the last beat out", {"kind": "remove", "beat": int(self.index[-1])})
            last = self.doubt("end", n - 3, n - 1, LISTEN if weak_end else LOOK, words, [] if more else [out_with_it])
            # whether there is one beat more is as open as the last ones; music slows down at its end
            out.append(replace(last, end=max(last.end, goes_on + 0.1, float(self.t[-1] + 1.25 * self.gaps[-1]))))
        return out

    def _music_outside(self) -> tuple[float, float]:
        """Seconds of the first and the last attack that is about as loud as the music."""
        curve = self.scene.curve
        loud = loudness(self.scene.players, len(curve))
        inside = loud[round(self.t[0] * FRAME_RATE) : round(self.t[-1] * FRAME_RATE) + 1]
        struck = np.flatnonzero((curve > 0.5) & (loud > 0.35 * np.median(inside)))
        if not len(struck):
            return float(self.t[0]), float(self.t[-1])
        return struck[0] / FRAME_RATE, struck[-1] / FRAME_RATE


def _with_remedies_of(doubts: Sequence[Doubt], others: Sequence[Doubt]) -> list[Doubt]:
    """Both, but of ``others`` only those outside every one of ``doubts``; what they advise goes to the first around
    them."""
    out = list(doubts)
    for other in others:
        k = next((k for k, d in enumerate(doubts) if d.start <= other.start and other.end <= d.end), None)
        if k is None:
            out.append(other)
        elif len(out[k].remedies) < 3:
            new = [r for r in other.remedies if r not in out[k].remedies]
            out[k] = replace(out[k], remedies=[*out[k].remedies, *new][:3])
    return out


def felt_as(doubts: Sequence[Doubt], pulse: TempoMap, felt: TempoMap) -> list[Doubt]:
    """Doubts about a map's even pulse as doubts about its unequal felt beats.

    Remedies that name a pulse on which no felt beat falls, or count pulses, have no meaning there and go.
    """
    ends = felt.beats().index[[0, -1]]

    def place(beat: int) -> float:
        return same_place(beat, pulse, felt)

    def told(remedy: Remedy) -> Remedy | None:
        edit = remedy.edit
        if edit["kind"] == "resolve":
            a, b = int(np.floor(place(edit["from"]))), int(np.ceil(place(edit["to"])))
            return replace(remedy, edit={"kind": "resolve", "from": max(a, int(ends[0])), "to": min(b, int(ends[1]))})
        if "beat" in edit:
            at = place(edit["beat"])
            return replace(remedy, edit={**edit, "beat": round(at)}) if at == round(at) else None
        return remedy if edit["kind"] in ("insert", "shift") else None

    return [
        replace(d, beat=int(np.floor(place(d.beat))), remedies=[r for x in d.remedies if (r := told(x))])
        for d in doubts
        if d.kind != "phase"  # how clearly pulses are marked is not asked as of beats
    ]


def _runs(flags: NDArray[np.bool_], join: int = 1) -> list[tuple[int, int]]:
    """First and last place of each run of flags; runs less than ``join`` apart are one."""
    out: list[tuple[int, int]] = []
    for i in np.flatnonzero(flags).tolist():
        if out and i - out[-1][1] <= join:
            out[-1] = (out[-1][0], i)
        else:
            out.append((i, i))
    return out


def _merged(doubts: list[Doubt]) -> list[Doubt]:
    """Overlapping doubts of one kind as the most severe of them, widened."""
    out: list[Doubt] = []
    for d in doubts:
        if out and d.kind == out[-1].kind and d.start <= out[-1].end:
            last = out.pop()
            keep = d if d.severity > last.severity else last
            out.append(Doubt(d.kind, last.start, d.end, last.bar, last.beat, keep.severity, keep.reason, keep.remedies))
        else:
            out.append(d)
    return out
