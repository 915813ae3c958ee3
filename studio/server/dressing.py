"""The main demo as an engineer would have left it: sections, chords, a part that rides the bars, those doubts
settled that are about what is right."""

from __future__ import annotations

import numpy as np
from django.db import transaction

from core import audio
from core.audio.loudness import loudness
from core.demo import boathouse
from core.parts.patterns import PATTERNS, pattern_notes
from core.tempomap import TempoMap
from core.tracking.doubts.doubt import Doubt
from studio.desk.doubt_views import doubts_of
from studio.desk.models import Mark
from studio.harmony.work import CHORDS
from studio.histories import changed
from studio.jobs.models import Job
from studio.jobs.queue import taken
from studio.jobs.working import work
from studio.library.models import Session
from studio.parts import part_history
from studio.parts.models import Part

#: Sections of the song by their first bars, each with a colour of the page's palette.
SECTIONS = (
    (1, "Round 1", 1),
    (9, "Round 2", 0),
    (17, "Round 3", 1),
    (25, "Without drum", 2),
    (29, "Round 4", 0),
    (40, "Ending", 3),
)
#: The part, where it plays, and its level in dB.
PATTERN, FIRST, LAST, LEVEL = "Boardwalk", 25, 28, -9.0
#: LUFS of the mix.
LOUDNESS = -18.0
#: Seconds by which a beat may be off and still be right.
RIGHT = 0.07


def dress(session: Session) -> None:
    """Add all of it to a session that has the main demo's map."""
    tempo_map = session.tempo_map
    _levels(session)
    _sections(session, tempo_map)
    job = Job.objects.create(session=session, kind=CHORDS)
    if mine := taken(job, "demo"):
        work(mine)
    notes = pattern_notes(PATTERNS[PATTERN], tempo_map.meters, FIRST, LAST)
    part = part_history.make(session, "Drum for the gap", "drums", notes, done=f"Added in bars {FIRST} to {LAST}")
    Part.objects.filter(pk=part.pk).update(gain=LEVEL)
    _settle(session, tempo_map)


def _levels(session: Session) -> None:
    """All faders by as much, so that the mix has a pleasant loudness and does not clip."""
    mix = np.zeros((session.frames, 2), dtype=np.float32)
    for track in session.tracks.all():
        at = 0
        for block in audio.blocks(track.playback):
            mix[at : at + len(block)] += block[: len(mix) - at]
            at += len(block)
    found = loudness(mix, session.sample_rate)
    if not np.isfinite(found):
        return
    with transaction.atomic():
        session.tracks.update(gain=round(LOUDNESS - found, 1))
        changed(session, "Levels")


def _sections(session: Session, tempo_map: TempoMap) -> None:
    ends = [*(bar for bar, _, _ in SECTIONS[1:]), tempo_map.bar_range[1] + 1]
    with transaction.atomic():
        for (bar, name, colour), end in zip(SECTIONS, ends, strict=True):
            start, stop = tempo_map.bar_seconds([bar, end]).tolist()
            Mark.objects.create(
                session=session, kind=Mark.Kind.SECTION, name=name, start=start, end=stop, colour=colour
            )
        changed(session, "Sections named")


def _settle(session: Session, tempo_map: TempoMap) -> None:
    """Dismiss the doubts about places where the map is as the players meant it."""
    session.refresh_from_db()
    unfounded = [d for d in doubts_of(session) if not _is_wrong(d, tempo_map)]
    if not unfounded:
        return
    with transaction.atomic():
        for d in unfounded:
            Mark.objects.create(session=session, kind=Mark.Kind.FINE, name=d.kind, start=d.start, end=d.end)
        changed(session, "Looked through the doubts")


def _is_wrong(doubt: Doubt, tempo_map: TempoMap) -> bool:
    """Whether beats or bar lines of the map around a doubt are others than those that were played."""
    found, meant = tempo_map.beats(), boathouse.truth().beats()
    near = (meant.seconds >= doubt.start - 0.5) & (meant.seconds <= doubt.end + 0.5)
    if not near.any():
        return True  # the map goes on where nobody plays
    closest = np.abs(found.seconds[:, None] - meant.seconds[near]).argmin(axis=0)
    off = np.abs(found.seconds[closest] - meant.seconds[near]) > RIGHT
    lines = found.beat[closest] != meant.beat[near]
    return bool(off.any() or lines.any())
