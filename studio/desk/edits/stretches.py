"""Edits of a stretch, or of the whole map where none is chosen: solved again, counted anew, evened, shifted, tapped."""

from contextlib import suppress

import numpy as np

from core.beats import NoBeats
from core.beats.resolve import resolve, settle
from core.beats.tapping import lay_taps
from core.tempomap import Meters, TempoMap, grain, reach
from core.tempomap.counting import rescale
from core.tempomap.edits import EditError
from core.tempomap.splice import between
from studio.desk.edits.asked import place, snapped, stretch, where
from studio.desk.edits.bars import read_meter
from studio.library.hearing import scene


def again(session, tempo_map, said):
    first, last = stretch(tempo_map, said)
    if first is None:
        first, last = int(said["from"]), int(said["to"])
    try:
        solved = resolve(scene(session), tempo_map, first, last, said.get("beats"))
    except NoBeats as e:
        raise EditError(str(e)) from None
    return solved, f"Solved again{where(tempo_map, first, last)}"


def alternative(session, tempo_map, said):
    offered = session.finding.get("alternatives", [])
    if not 0 <= int(said["number"]) < len(offered):
        raise EditError("That reading is no longer on offer; find the beats again.")
    chosen = offered[int(said["number"])]
    return TempoMap.from_json(chosen["map"]), f"Another reading: {chosen['name']}"


RATIOS = {
    "1:2": "Half the tempo",
    "2:1": "Double the tempo",
    "3:2": "3:2 of the tempo",
    "2:3": "2:3 of the tempo",
    "4:3": "4:3 of the tempo",
    "3:4": "3:4 of the tempo",
}


def ratio(session, tempo_map, said):
    if said["ratio"] not in RATIOS:
        raise EditError("That ratio is not known.")
    times, over = (int(x) for x in said["ratio"].split(":"))
    first, last = stretch(tempo_map, said)
    counted = rescale(tempo_map, times, over, first, last, int(said.get("offset", 0)))
    if times > over and not said.get("preview"):
        # the new beats go to their attacks; without evidence they stay where they were reckoned
        with suppress(NoBeats):
            counted = settle(scene(session), counted, tempo_map.beats().seconds)
    return counted, f"{RATIOS[said['ratio']]}{where(tempo_map, first, last)}"


def half(session, tempo_map, said):
    return ratio(session, tempo_map, {**said, "ratio": "1:2"})


def double(session, tempo_map, said):
    return ratio(session, tempo_map, {**said, "ratio": "2:1"})


def steady(session, tempo_map, said):
    first, last = stretch(tempo_map, said)
    kept = grain.steady(tempo_map, first, last)
    return kept, f"Steady{where(tempo_map, first, last)}{_cost(tempo_map, kept)}"


def smooth(session, tempo_map, said):
    first, last = stretch(tempo_map, said)
    kept = grain.smooth(tempo_map, first, last)
    return kept, f"Smoothed{where(tempo_map, first, last)}{_cost(tempo_map, kept)}"


def thin(session, tempo_map, said):
    within = float(said["within"])
    if not 0 < within <= 0.5:
        raise EditError("Beats can be kept within 0 to 500 ms.")
    first, last = stretch(tempo_map, said)
    kept = grain.thin(tempo_map, within, first, last)
    return kept, f"Thinned{where(tempo_map, first, last)}{_cost(tempo_map, kept)}"


def every(session, tempo_map, said):
    bars = int(said["bars"])
    first, last = stretch(tempo_map, said)
    kept = grain.every(tempo_map, bars, first, last)
    what = "Points at every beat" if bars < 1 else "Points at every bar" if bars == 1 else f"Points every {bars} bars"
    return kept, f"{what}{where(tempo_map, first, last)}{_cost(tempo_map, kept)}"


def _cost(tempo_map, kept) -> str:
    off = 1000 * grain.farthest(tempo_map, kept)
    return f": {len(kept.seconds)} points, {off:.1f} ms off at most"


def shift(session, tempo_map, said):
    by = float(said["by"])
    return reach.shift(tempo_map, by), f"Whole map {1000 * by:+.0f} ms"


def offbeat(session, tempo_map, said):
    share = float(said["share"])
    words = "later" if share > 0 else "earlier"
    return reach.shift_by_beats(tempo_map, share), f"Beats {abs(share):g} of a beat {words}"


def starts(session, tempo_map, said):
    beat = _named(session, tempo_map, said)
    kept = _ended(session, tempo_map, said, beat, int(tempo_map.beats().index[-1]))
    return kept, f"Mapped music starts at {place(kept, beat)}"


def ends(session, tempo_map, said):
    beat = _named(session, tempo_map, said)
    kept = _ended(session, tempo_map, said, int(tempo_map.beats().index[0]), beat)
    return kept, f"Mapped music ends at {place(kept, beat)}"


def _named(session, tempo_map, said) -> int:
    """The beat that was chosen, or the one nearest to where an end was dragged; both lie within the recording."""
    if "beat" in said:
        return int(said["beat"])
    first, last = tempo_map.beat_index_at([0.0, max(session.seconds, float(tempo_map.seconds[-1]))])
    return int(np.clip(np.round(tempo_map.beat_index_at(float(said["to"]))), np.ceil(first), np.floor(last)))


def _ended(session, tempo_map, said, first, last):
    """The map between two of its beats; where that makes it longer, the new beats go to the attacks beside them."""
    kept = between(tempo_map, first, last)
    if not said.get("preview"):
        with suppress(NoBeats):
            kept = settle(scene(session), kept, tempo_map.beats().seconds)
    return kept


def tap(session, tempo_map, said):
    taps = [float(t) for t in said["taps"]]
    try:
        laid = lay_taps(scene(session), None if said.get("fresh") else tempo_map, taps)
    except NoBeats as e:
        raise EditError(str(e)) from None
    return laid, f"Tapped {len(taps)} beats"


def rough(session, tempo_map, said):
    """A tempo that was typed or tapped, from a first downbeat on, over the whole take."""
    bpm, at = float(said["bpm"]), snapped(session, float(said["at"]), 0.02)
    if not 20 <= bpm <= 400:
        raise EditError("A tempo lies between 20 and 400 beats a minute.")
    meter = read_meter(said.get("meter") or "4/4")
    meters = Meters.of((1, meter.felt))
    quarter_bpm = bpm * meter.quarters / meter.beats
    bars = max(1, int((session.seconds - at) * quarter_bpm / 60 / meter.quarters))
    return TempoMap.steady(quarter_bpm, meters, at, bars), f"Rough start at {bpm:g}, {meter.felt}"
