"""Edits of a stretch, or of the whole map where none is chosen: detected again, counted again, evened, shifted,
tapped."""

from contextlib import suppress
from typing import Any

import numpy as np

from core.tempomap import Meters, TempoMap, grain, reach
from core.tempomap.counting import rescale
from core.tempomap.edits import EditError
from core.tempomap.limits import checked_tempo
from core.tempomap.position import words_at
from core.tempomap.splice import between
from core.tracking.context import NoBeats
from core.tracking.redetect import redetect, snap_new_beats
from core.tracking.tapping import map_from_taps
from studio.analysis.features import context
from studio.analysis.models import latest
from studio.desk.edits.arguments import snap_to_attack, stretch, where
from studio.desk.edits.bars import read_meter
from studio.library.models import Session


def again(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    chosen = stretch(tempo_map, params) or (int(params["from"]), int(params["to"]))
    try:
        found = redetect(context(session), tempo_map, *chosen, params.get("beats"))
    except NoBeats as e:
        raise EditError(str(e)) from None
    return found, f"Detected again{where(tempo_map, chosen)}"


def alternative(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    offered = latest(session, "alternatives")["alternatives"]
    if not 0 <= int(params["number"]) < len(offered):
        raise EditError("That reading is no longer on offer; find the beats again.")
    chosen = offered[int(params["number"])]
    return TempoMap.from_json(chosen["map"]), f"Another reading: {chosen['name']}"


def _ends(chosen: tuple[int, int] | None) -> tuple[int, int] | tuple[None, None]:
    """First and last beat as the core takes them: none for the whole map."""
    return chosen or (None, None)


#: Ratios of new beats to old ones, and what history calls them.
RATIOS = {
    "1:2": "Half the tempo",
    "2:1": "Double the tempo",
    "3:2": "3:2 of the tempo",
    "2:3": "2:3 of the tempo",
    "4:3": "4:3 of the tempo",
    "3:4": "3:4 of the tempo",
}


def ratio(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    if params["ratio"] not in RATIOS:
        raise EditError("That ratio is not known.")
    times, over = (int(x) for x in params["ratio"].split(":"))
    chosen = stretch(tempo_map, params)
    first, last = _ends(chosen)
    counted = rescale(tempo_map, times, over, first, last, int(params.get("offset", 0)))
    if times > over and not params.get("preview"):
        # the new beats go to their attacks; without evidence they stay where they were calculated
        with suppress(NoBeats):
            counted = snap_new_beats(context(session), counted, tempo_map.beats().seconds)
    return counted, f"{RATIOS[params['ratio']]}{where(tempo_map, chosen)}"


def half(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    return ratio(session, tempo_map, {**params, "ratio": "1:2"})


def double(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    return ratio(session, tempo_map, {**params, "ratio": "2:1"})


def steady(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    chosen = stretch(tempo_map, params)
    kept = grain.steady(tempo_map, *_ends(chosen))
    return kept, f"Steady{where(tempo_map, chosen)}{_cost(tempo_map, kept)}"


def smooth(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    chosen = stretch(tempo_map, params)
    kept = grain.smooth(tempo_map, *_ends(chosen))
    return kept, f"Smoothed{where(tempo_map, chosen)}{_cost(tempo_map, kept)}"


def thin(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    within = float(params["within"])
    if not 0 < within <= 0.5:
        raise EditError("Beats can be kept within 0 to 500 ms.")
    chosen = stretch(tempo_map, params)
    kept = grain.thin(tempo_map, within, *_ends(chosen))
    return kept, f"Thinned{where(tempo_map, chosen)}{_cost(tempo_map, kept)}"


def every(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    bars = int(params["bars"])
    chosen = stretch(tempo_map, params)
    kept = grain.every(tempo_map, bars, *_ends(chosen))
    what = "Points at every beat" if bars < 1 else "Points at every bar" if bars == 1 else f"Points every {bars} bars"
    return kept, f"{what}{where(tempo_map, chosen)}{_cost(tempo_map, kept)}"


def _cost(tempo_map: TempoMap, kept: TempoMap) -> str:
    off = 1000 * grain.farthest(tempo_map, kept)
    return f": {len(kept.seconds)} points, {off:.1f} ms off at most"


def shift(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    by = float(params["by"])
    return reach.shift(tempo_map, by), f"Whole map {1000 * by:+.0f} ms"


def offbeat(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    share = float(params["share"])
    words = "later" if share > 0 else "earlier"
    return reach.shift_by_beats(tempo_map, share), f"Beats {abs(share):g} of a beat {words}"


def starts(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    beat = _named(session, tempo_map, params)
    kept = _ended(session, tempo_map, params, beat, int(tempo_map.beats().index[-1]))
    return kept, f"Mapped music starts at {words_at(kept, beat)}"


def ends(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> tuple[TempoMap, str]:
    beat = _named(session, tempo_map, params)
    kept = _ended(session, tempo_map, params, int(tempo_map.beats().index[0]), beat)
    return kept, f"Mapped music ends at {words_at(kept, beat)}"


def _named(session: Session, tempo_map: TempoMap, params: dict[str, Any]) -> int:
    """The beat that was chosen, or the one nearest to where an end was dragged; both lie within the recording."""
    if "beat" in params:
        return int(params["beat"])
    first, last = tempo_map.beat_index_at([0.0, max(session.seconds, float(tempo_map.seconds[-1]))])
    return int(np.clip(np.round(tempo_map.beat_index_at(float(params["to"]))), np.ceil(first), np.floor(last)))


def _ended(session: Session, tempo_map: TempoMap, params: dict[str, Any], first: int, last: int) -> TempoMap:
    """The map between two of its beats; where that makes it longer, the new beats go to the attacks beside them."""
    kept = between(tempo_map, first, last)
    if not params.get("preview"):
        with suppress(NoBeats):
            kept = snap_new_beats(context(session), kept, tempo_map.beats().seconds)
    return kept


def tap(session: Session, tempo_map: TempoMap | None, params: dict[str, Any]) -> tuple[TempoMap, str]:
    taps = [float(t) for t in params["taps"]]
    try:
        edited = map_from_taps(context(session), None if params.get("fresh") else tempo_map, taps)
    except NoBeats as e:
        raise EditError(str(e)) from None
    return edited, f"Tapped {len(taps)} beats"


def rough(session: Session, tempo_map: TempoMap | None, params: dict[str, Any]) -> tuple[TempoMap, str]:
    """A tempo that was typed or tapped, from a first downbeat on, over the whole take."""
    bpm, at = float(params["bpm"]), snap_to_attack(session, float(params["at"]), 0.02)
    checked_tempo(bpm)
    meter = read_meter(params.get("meter") or "4/4")
    meters = Meters.of((1, meter.felt))
    quarter_bpm = bpm * meter.quarters / meter.beats
    bars = max(1, int((session.seconds - at) * quarter_bpm / 60 / meter.quarters))
    return TempoMap.steady(quarter_bpm, meters, at, bars), f"Rough start at {bpm:g}, {meter.felt}"
