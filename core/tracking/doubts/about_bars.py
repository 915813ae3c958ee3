"""Doubts about bars: odd ones, stretches in another meter, and those where another beat of the bar sounds more like
beat 1."""

from __future__ import annotations

from itertools import groupby

import numpy as np
from numpy.typing import NDArray

from core.document.commands import AreBars, Downbeat, SetMeter
from core.tempomap import Meter
from core.tracking.bars import usual_beats
from core.tracking.doubts.about_take import probability
from core.tracking.doubts.bar_evidence import windows
from core.tracking.doubts.doubt import LISTEN, WRONG, Doubt, Remedy, beats_later
from core.tracking.doubts.map_view import MapView, log_odds, runs
from core.tracking.parameters import BARS_IN_WINDOW, DOUBTED_WINDOW, UNSURE, WINDOW_WEIGHTS

#: By how many nats the beats of a slow-down or a hold are less sure than those of their take usually are; its first
#: ones are not unsure enough for a doubt.
_LESS_SURE = 2.4
#: A beat counts as so sure at most.
_SURE = 0.999


def odd_bars(view: MapView) -> list[Doubt]:
    """Bars of another length than those around them."""
    out = []
    downs = _downbeats(view)
    for a, b, beats in zip(downs, downs[1:], usual_beats(downs, view.candidate.division.beats).tolist(), strict=False):
        n = int(b - a)
        if n != beats and view.bar[a] >= 1:
            usual = _usual_meter(view, int(view.bar[a]), beats)
            remedy = Remedy(f"make it {usual}", SetMeter(int(view.bar[a]), usual.felt, only=True))
            words = f"A bar of {view.map.meters.meter_at(int(view.bar[a]))} among bars of {beats} beats."
            slower = _slower(view, downs, beats, int(a), int(b)) if n > beats else []
            held = _held_remedy(view, int(a), int(b), beats) if beats < n < 2 * beats else []
            remedies = list(dict.fromkeys([*slower, *held, remedy]))
            out.append(view.doubt("meter", int(a), int(b), LISTEN, words, remedies))
    return out


def other_meters(view: MapView) -> list[Doubt]:
    """Stretches of bars in another meter than the main one, each where the meter changes: at its first bar, or if
    that opens the map at the one behind its last."""
    out, main = [], view.candidate.division.beats
    downs = _downbeats(view)
    first = 0
    for beats, bars in groupby(usual_beats(downs, main).tolist()):
        behind = first + len(list(bars))
        one, last = int(view.bar[downs[first]]), int(view.bar[downs[behind - 1]])
        if beats != main and last > 1:
            change = behind if one <= 1 and behind < len(downs) else first
            end = min(int(downs[change]) + beats, len(view.seconds) - 1)
            meter = _usual_meter(view, max(1, one), main)
            words = f"Bars {max(1, one)} to {last} have {beats} beats each, most others {main}: does the meter change?"
            remedy = Remedy(f"{meter} there, too", SetMeter(max(1, one), meter.felt))
            out.append(view.doubt("new meter", int(downs[change]), end, LISTEN, words, [remedy]))
        first = behind
    return out


def _downbeats(view: MapView) -> NDArray[np.intp]:
    return np.flatnonzero(np.diff(view.bar, prepend=view.bar[0] - 1) > 0)


def _usual_meter(view: MapView, bar: int, beats: int) -> Meter:
    """The meter of the map's bars of so many beats; that of ``bar`` where it has none."""
    meters = view.map.meters
    return next((c.meter for c in meters.changes if c.meter.beats == beats), meters.meter_at(bar))


def _slower(view: MapView, downs: NDArray[np.intp], main: int, a: int, b: int) -> list[Remedy]:
    """A remedy for a bar with too many beats where they are unsure: the players slowed down or held one, and the map
    counted on."""
    run = next(((i, j) for i, j in runs(_less_sure(view.confidence), join=2) if i < b and j >= a - main), None)
    if run is None:
        return []
    opens, closes = downs[downs <= min(run[0], a)], downs[downs > max(run[1], a)]
    return _held_remedy(view, int(opens[-1]), int(closes[0]), main) if len(opens) and len(closes) else []


def _less_sure(confidence: NDArray[np.float64]) -> NDArray[np.bool_]:
    odds = log_odds(confidence, _SURE)
    return np.asarray(odds < np.median(odds) - _LESS_SURE)


def _held_remedy(view: MapView, first: int, last: int, main: int) -> list[Remedy]:
    """Make beats ``first`` to ``last`` whole bars, one for each ``main`` beats that they have room for. A machine holds
    no beat."""
    bars = (last - first) // main
    if not bars or last >= len(view.seconds) or view.candidate.hypothesis.exact_tempo:
        return []
    one, end = int(view.bar[first]), int(view.bar[first]) + bars - 1
    which = f"bar {one} has" if bars == 1 else f"bars {one} to {end} have"
    words = f"it slows down or holds: {which} {main} beats"
    return [Remedy(words, AreBars((float(view.seconds[first]), float(view.seconds[last])), bars))]


def contested(view: MapView) -> list[Doubt]:
    """Stretches in which another beat of the bar sounds more like a downbeat than beat 1."""
    division, evidence = view.candidate.division, view.candidate.evidence
    main, downs = division.beats, division.downbeats
    out: list[Doubt] = []
    if main < 2 or len(downs) < BARS_IN_WINDOW:
        return out
    flagged = np.zeros(len(downs), dtype=bool)
    which = np.zeros(len(downs), dtype=int)
    for window in windows(downs, main, evidence):
        if probability(WINDOW_WEIGHTS, **window.features) > DOUBTED_WINDOW:
            flagged[window.first : window.last] = True
            which[window.first : window.last] = int(np.argmin(window.gaps)) + 1
    for i, j in runs(flagged, join=2):
        by = int(np.bincount(which[i : j + 1]).argmax())
        a, b = int(downs[i]), int(min(downs[j] + main - 1, len(view.seconds) - 1))
        if a >= len(view.seconds):
            continue
        words = f"Beat {by + 1} sounds more like beat 1 than the beat that is counted as 1."
        remedies = [Remedy(f"move every downbeat {beats_later(by)}", Downbeat(by))]
        # where beats are unsure before it, one was held, and the map counted on
        run = next(
            (r for r in runs(view.confidence < UNSURE, join=2) if a - main <= r[0] < b and r[1] - r[0] > 1), None
        )
        if run and len(later := downs[downs > run[1]] + by) and len(opens := downs[downs <= run[0]]):
            remedies = [*_held_remedy(view, int(opens[-1]), int(later[0]), main), *remedies]
        severity = WRONG if j - i > 0.5 * len(downs) else LISTEN
        out.append(view.doubt("downbeat", a, b, severity, words, remedies))
    return out
