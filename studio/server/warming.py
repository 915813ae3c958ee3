"""What the first edit and the first note would have to wait for: compiled loops are loaded when the server begins."""

from __future__ import annotations

import logging
import threading

import numpy as np

from core.instruments.stream import Player, render_block
from core.instruments.strokes import strokes_of
from core.notes import Note
from core.tracking.decoder import decode_counted
from core.tracking.tempo_freedom import decode_freely
from studio.parts.sound_sets import shipped

_log = logging.getLogger(__name__)
#: Seconds after the start, so that the first page comes first.
AFTER = 1.5


def warm() -> None:
    """Run each loop once that requests need."""
    curve = np.zeros(800)
    curve[::50] = 1.0
    ends = np.array([0, 750])
    decode_freely(curve, 100, 140, 120, pins=ends)
    decode_counted(curve[:751], 15, 50.0, pins=ends)
    note = strokes_of([Note(0.0, 0.1, 60, 80)], "keys")
    for player in (Player("keys"), Player("keys", 0, shipped())):
        render_block(note, player, 48_000, 0, 64)


def warm_later() -> threading.Timer:
    """Do it in the background, soon; what goes wrong is logged, and happens again where it is needed."""

    def begin() -> None:
        try:
            warm()
        except Exception:  # nobody asked for this yet
            _log.exception("warming up failed")

    timer = threading.Timer(AFTER, begin)
    timer.daemon = True
    timer.start()
    return timer
