"""The click as a file."""

from __future__ import annotations

import io

import numpy as np
import soundfile as sf

from core.audio.stems import SUBTYPES, Depth
from core.following import click
from core.tempomap import TempoMap
from studio.desk.clicks import clicks_of
from studio.library.models import Session


def click_file(session: Session, count_in: int = 0, rate: int = 0, depth: Depth = "24") -> bytes:
    """The click as it is played at the desk. With ``count_in`` bars before bar 1, clicks in the tempo of its beginning
    lead to it; where they would begin before the recording does, the file begins earlier by as much."""
    tempo_map, rate = session.tempo_map, rate or session.sample_rate
    own = clicks_of(session, tempo_map, rate)
    samples, kinds, start, end = own.samples, own.kinds, 0, round(session.seconds * rate)
    if count_in:
        bar_one = float(tempo_map.bar_seconds(1))
        lead, length = click.count_in(tempo_map, rate, bar_one, count_in)
        first = round(bar_one * rate)
        start = min(0, first - length)
        kept = samples >= first
        samples = np.concatenate([lead.samples + first - length, samples[kept]])
        kinds = np.concatenate([lead.kinds, kinds[kept]])
    made = click.render(click.Clicks(samples, kinds), rate, end - start, session.click_style.sound, start)
    out = io.BytesIO()
    sf.write(out, made, rate, SUBTYPES[depth], format="WAV")
    return out.getvalue()


def lead_of(tempo_map: TempoMap, count_in: int) -> float:
    """Seconds that a click with a count-in begins before the recording."""
    if not count_in:
        return 0.0
    rate = 48_000
    bar_one = float(tempo_map.bar_seconds(1))
    _, length = click.count_in(tempo_map, rate, bar_one, count_in)
    return max(0.0, length / rate - bar_one)
