"""Bar lines behind an edit that changes how many beats lie before them: they stay, or bars count on."""

from __future__ import annotations

import numpy as np

from core.document import Document
from core.document.commands import Bars
from core.document.statements import holds
from core.editing.recording import Recording
from core.listening.rates import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.bar_lines import lines_of, with_lines_kept
from core.tracking.context import AnalysisContext, NoBeats
from core.tracking.downbeats import activation_evidence

#: By how many nats a line the counted bars have to sound more like downbeats, over how many lines, to be the default.
CLEARLY, FEWEST = 1.0, 4


def choose_bars(
    document: Document,
    recording: Recording,
    counted: TempoMap,
    since: float,
    wanted: Bars | None,
    anew: tuple[float, float] | None = None,
) -> tuple[TempoMap, Bars | None]:
    """The edited map with its bar lines kept or counted on, and the other meaning that could be had (None: no other).

    ``counted``: the edited map in which bars count on; ``since``: where the edit is, in seconds; ``anew``: see
    :func:`core.tempomap.bar_lines.with_lines_kept`.
    """
    assert document.map is not None
    kept = with_lines_kept(document.map, counted, anew)
    if kept == counted:
        return counted, None
    chosen = wanted or ("count on" if _sounds_counted(document, recording, kept, counted, since) else "stay")
    return (kept, "count on") if chosen == "stay" else (counted, "stay")


def _sounds_counted(document: Document, recording: Recording, kept: TempoMap, counted: TempoMap, since: float) -> bool:
    if not all(holds(s, counted) for s in document.statements):
        return False
    try:
        context = recording.context()
    except NoBeats:
        return False
    return line_evidence(context, counted, since) - line_evidence(context, kept, since) > CLEARLY


def line_evidence(context: AnalysisContext, tempo_map: TempoMap, since: float) -> float:
    """How much the bar lines behind ``since`` (seconds) sound like downbeats, in nats a line; 0 for too few."""
    lines = tempo_map.seconds_of_beat(lines_of(tempo_map)[0])
    frames = np.round(lines[lines > since] * FRAME_RATE).astype(np.int64)
    frames = frames[frames < len(context.beat_activation)]
    return float(activation_evidence(context.beat_activation, frames).mean()) if len(frames) >= FEWEST else 0.0
