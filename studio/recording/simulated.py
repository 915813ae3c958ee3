"""A stand-in for a musician at a microphone: in the demo it can be chosen in place of an input."""

from __future__ import annotations

import io
from functools import cache

import soundfile as sf

from core.demo import boathouse
from studio.library.models import Track

#: Seconds of the main demo's dulcimer that it plays, again and again.
FROM, TO = 4.0, 64.0
TRACK = "Hammered dulcimer"


@cache
def wav() -> bytes:
    """What it plays: from the demo session's own track, or played anew where that is gone."""
    track = Track.everything.filter(session__title=boathouse.TITLE, name=TRACK, analysed=True).first()
    if track and track.source.exists():
        samples, rate = sf.read(track.source, dtype="float32")
    else:
        performance = boathouse.perform()
        samples, rate = performance.tracks[TRACK], performance.rate
    out = io.BytesIO()
    sf.write(out, samples[round(FROM * rate) : round(TO * rate)], rate, "PCM_16", format="WAV")
    return out.getvalue()
