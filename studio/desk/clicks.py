"""The click of a session: where it sounds, in its own style, and not where the music has no beat."""

import numpy as np

from core.following import click
from core.tempomap import TempoMap
from studio.desk.models import Mark
from studio.library.models import Session


def clicks_of(session: Session, tempo_map: TempoMap, rate: int = 0) -> click.Clicks:
    """The session's clicks in its own style, in samples of ``rate`` (0: the session's own); none where the music has
    no beat."""
    rate = rate or session.sample_rate
    found = click.clicks(tempo_map, rate, session.seconds, session.click_style)
    silent = np.zeros(len(found.samples), dtype=bool)
    for mark in session.marks.filter(kind=Mark.Kind.FREE):
        silent |= (found.samples >= mark.start * rate - 1) & (found.samples < mark.end * rate - 1)
    return click.Clicks(found.samples[~silent], found.kinds[~silent])
