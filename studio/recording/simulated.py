"""A stand-in for a musician at a microphone: in the demo it can be chosen in place of an input."""

from __future__ import annotations

import io
from functools import cache

import soundfile as sf
from django.conf import settings

from core.demo import boathouse

#: Seconds of the main demo's dulcimer that it plays, again and again.
FROM, TO = 4.0, 64.0
TRACK = "Hammered dulcimer"


def is_offered() -> bool:
    """Only where the demo was made."""
    return (settings.DATA / "demo-made").exists()


@cache
def wav() -> bytes:
    performance = boathouse.perform()
    samples = performance.tracks[TRACK]
    out = io.BytesIO()
    cut = samples[round(FROM * performance.rate) : round(TO * performance.rate)]
    sf.write(out, cut, performance.rate, "PCM_16", format="WAV")
    return out.getvalue()
