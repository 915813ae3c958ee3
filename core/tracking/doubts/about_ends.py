"""Doubts about the ends: music before the first beat or after the last, uncertain last beats."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from core.document.commands import Command, Ends, Remove, Starts
from core.listening.rates import FRAME_RATE
from core.tracking.doubts.about_take import probability
from core.tracking.doubts.doubt import LISTEN, LOOK, Doubt, Remedy
from core.tracking.doubts.map_view import MapView, log_odds
from core.tracking.parameters import DOUBTED_END, END_WEIGHTS

Floats = NDArray[np.float64]

#: Fewest beats of a map whose ends are looked at.
_FEWEST = 8
#: A sound this many beats before the first beat, or this many after the last one, raises a doubt. Chosen on the fitting
#: set (docs/measured.md): a sound closer to the last beat hardly ever means that a beat is missing.
_BEFORE, _AFTER = 1.2, 0.9
#: Beats that are the last ones; a beat counts as so sure at most.
LAST, _SURE = 3, 0.99
#: The doubt about the end reaches so many of its last beat's lengths on, or so many seconds behind what sounds.
_LATER, _BEHIND = 1.25, 0.1
#: How high the onset envelope rises at an attack of the music, and how loud it is, as a share of the usual loudness.
_ATTACK, _AS_LOUD = 0.5, 0.35
#: Chosen on the fitting set (docs/measured.md): after the last place where a beat is as likely as this, there is only
#: applause or noise.
_LIKELY = 0.2


def about_ends(view: MapView) -> list[Doubt]:
    """What sounds before the first beat, what goes on after the last, and last beats that are uncertain."""
    if len(view.seconds) < _FEWEST:
        return []
    n = len(view.seconds)
    out = []
    gap = float(np.median(view.intervals[-8:]))
    begins, sounds_until = _music_outside(view)
    goes_on = min(sounds_until, _last_likely_beat(view, gap))
    if begins < view.seconds[0] - _BEFORE * gap:
        words = "Something sounds before the first beat: a count-in, or music that the map leaves out?"
        take_in = _taken_in(Starts(to=begins), (view.seconds[0] - begins) / float(np.median(view.intervals[:8])))
        out.append(replace(view.doubt("end", 0, 0, LOOK, words, [take_in]), start=begins))
    weak_end = probability(END_WEIGHTS, **end_features(view.confidence, view.support)) >= DOUBTED_END
    more = goes_on > view.seconds[-1] + _AFTER * gap
    if weak_end or more:
        words = (
            "The music goes on after the last beat."
            if more
            else "The last beats are uncertain: does the music end earlier?"
        )
        remedy = (
            _taken_in(Ends(to=goes_on), (goes_on - view.seconds[-1]) / gap)
            if more
            else Remedy("take the last beat out", Remove(int(view.index[-1])))
        )
        last = view.doubt("end", n - LAST, n - 1, LISTEN if weak_end else LOOK, words, [remedy])
        # there may be one beat more just as well, and later, as music slows down at its end
        out.append(
            replace(last, end=max(last.end, goes_on + _BEHIND, float(view.seconds[-1] + _LATER * view.intervals[-1])))
        )
    return out


def _taken_in(command: Command, beats: float) -> Remedy:
    count = max(1, round(beats))
    return Remedy(f"take it in: {'1 beat' if count == 1 else f'about {count} beats'}", command)


def end_features(confidence: Floats, support: Floats) -> dict[str, float]:
    """What tells whether the last beats are right: by how much the ``least`` sure of them is less sure than beats of
    this take usually are (log-odds), and the least ``support`` by attacks. ``confidence``, ``support``: of all beats.
    """
    odds = log_odds(confidence, _SURE)
    return {"least": float(odds[-LAST:].min() - np.median(odds)), "support": float(support[-LAST:].min())}


def _last_likely_beat(view: MapView, gap: float) -> float:
    """Seconds of the last place after the map where a beat is likely; the map's last beat where there is none. ``gap``:
    seconds between the last beats."""
    begin = max(0, round((view.seconds[-1] + _AFTER * gap) * FRAME_RATE))
    likely = np.flatnonzero(view.context.beat_activation[begin:, 0] >= _LIKELY)
    return float((begin + likely[-1]) / FRAME_RATE) if len(likely) else float(view.seconds[-1])


def _music_outside(view: MapView) -> tuple[float, float]:
    """Seconds of the first and the last attack that is about as loud as the music."""
    onset_envelope = view.context.onset_envelope
    loud = view.context.sound.loudness
    inside = loud[round(view.seconds[0] * FRAME_RATE) : round(view.seconds[-1] * FRAME_RATE) + 1]
    loud_onsets = np.flatnonzero((onset_envelope > _ATTACK) & (loud > _AS_LOUD * np.median(inside)))
    if not len(loud_onsets):
        return float(view.seconds[0]), float(view.seconds[-1])
    return float(loud_onsets[0] / FRAME_RATE), float(loud_onsets[-1] / FRAME_RATE)
