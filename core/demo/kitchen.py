"""A second take of the main demo's song: dulcimer and squeezebox alone at a kitchen table, quicker, without the bars in
which the drum rests. It follows the boathouse take, or leads it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from core.demo import boathouse
from core.demo.stage import Performance, Performer, Stroke, played, to_track
from core.instruments import voices
from core.instruments.render import render_notes
from core.tempomap import TempoMap

TITLE = "Lantern at the kitchen table"
#: Bars of the song that were left out.
LEFT_OUT = boathouse.SILENT_BARS
#: Bars that were played: up to the slow-down.
BARS = boathouse.SLOW_BAR - 1 - len(LEFT_OUT)


def truth() -> TempoMap:
    """The beats as meant: from 109 down to 103 a minute and up again."""
    rng = np.random.default_rng(43)
    count = int(boathouse.METERS.beat_of_quarters(boathouse.METERS.bar_quarters(BARS + 1))) + 2
    place = np.arange(count) / count
    bpm = 106 + 3 * np.cos(2 * np.pi * place) + 0.3 * rng.standard_normal(count)
    return TempoMap.from_beats(3.1 + np.concatenate([[0], np.cumsum(60 / bpm[:-1])]), -1, boathouse.METERS)


def perform() -> Performance:
    """Play and record it; the same samples on every run."""
    rng = np.random.default_rng(8)
    meant = truth()
    # the dulcimer's own choices are those of the boathouse: the same tune
    same = np.random.default_rng(7)
    boathouse.drum_strokes(same)
    players = [
        Performer("dulcimer", voices.dulcimer, _shortened(boathouse.dulcimer_strokes(same)), -0.004, 0.006),
        Performer("squeezebox", voices.squeezebox, _shortened(boathouse.squeezebox_strokes()), 0.012, 0.008),
    ]
    frames = round((float(meant.seconds[-1]) + 2.0) * boathouse.RATE)
    dry = {p.name: render_notes(played(p, meant, rng), p.voice, boathouse.RATE, frames, rng) for p in players}
    tracks = {
        "Kitchen dulcimer": to_track(dry["dulcimer"] + 0.05 * dry["squeezebox"], seed=6),
        "Kitchen squeezebox": to_track(dry["squeezebox"] + 0.05 * dry["dulcimer"], 0.6, seed=7),
    }
    return Performance(TITLE, boathouse.RATE, meant, tracks)


def _shortened(strokes: tuple[Stroke, ...]) -> tuple[Stroke, ...]:
    """Without the bars that were left out and what comes behind the last one; the rest moves up."""
    first, behind = (float(q) for q in boathouse.METERS.bar_quarters([LEFT_OUT[0], LEFT_OUT[-1] + 1]))
    last = float(boathouse.METERS.bar_quarters(boathouse.SLOW_BAR))
    return tuple(
        s if s.quarter < first else replace(s, quarter=s.quarter - (behind - first))
        for s in strokes
        if not first <= s.quarter < behind and s.quarter < last
    )
