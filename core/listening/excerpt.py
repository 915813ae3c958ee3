"""A stretch of an analysed track by itself."""

from __future__ import annotations

from dataclasses import fields, replace

from core.listening.attacks import Attacks
from core.listening.pitches import PITCH_RATE
from core.listening.rates import FRAME_RATE
from core.listening.spectrum import Evidence
from core.listening.track import AnalysedTrack

#: Frames for each slow one: excerpts begin on a multiple of these.
SLOW = round(FRAME_RATE / PITCH_RATE)


def excerpt(track: AnalysedTrack, start: int, stop: int) -> AnalysedTrack:
    """What lies from frame ``start``, a multiple of :data:`SLOW`, to before frame ``stop``; it starts at time 0."""
    part = with_attacks_between(track, start, stop)
    rows = {
        f.name: getattr(track.evidence, f.name)[start // every : -(-stop // every)]
        for f in fields(Evidence)
        for every in [SLOW if f.name == "pitches" else 1]
    }
    evidence = Evidence(**rows)
    attacks = replace(part.attacks, seconds=part.attacks.seconds - start / FRAME_RATE)
    return replace(part, evidence=evidence, attacks=attacks, seconds=len(evidence) / FRAME_RATE)


def with_attacks_between(track: AnalysedTrack, start: int, stop: int) -> AnalysedTrack:
    """The same track with its attacks from frame ``start`` to before frame ``stop`` only."""
    there = (track.attacks.seconds >= start / FRAME_RATE) & (track.attacks.seconds < stop / FRAME_RATE)
    return replace(track, attacks=Attacks(*(getattr(track.attacks, f.name)[there] for f in fields(Attacks))))
