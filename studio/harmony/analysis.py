"""The harmony of a session: chords beat by beat, key and tuning, from the tones of its tracks."""

from django.db import transaction

from core import audio
from core.errors import InputError
from core.harmony.chord_line import chords_by_beat, with_chord
from core.harmony.chords import find_key
from core.listening import tonal
from studio.harmony.chord_history import record
from studio.harmony.models import Harmony
from studio.jobs.models import Job
from studio.jobs.registry import Report


class NoChords(InputError):
    """Chords that cannot be found, in words for the engineer."""


def analyse_harmony(job: Job, report: Report) -> Harmony:
    """Find the chords of every beat, the key and the tuning of the job's session; a step of the chords' history in
    which those stay that the engineer wrote. ``report(stage, share)`` may raise to cancel. Raises :class:`NoChords`."""
    session = job.session
    if session.step is None:
        raise NoChords("Chords are found beat by beat, and this session has no map yet. Find its beats first.")
    tracks = [t for t in session.tracks.all() if t.analysed]
    if not tracks:
        raise NoChords("No track has been listened to yet. Wait until the tracks are analysed, then try again.")
    parts = []
    for i, track in enumerate(tracks):
        report(f"Listening for tones in {track.name}", i / len(tracks))
        parts.append(tonal.tones(audio.mono_at(track.playback, tonal.RATE, session.sample_rate)))
    tones = tonal.joined(parts)
    tempo_map = session.tempo_map
    chords = chords_by_beat(tones, tempo_map)
    if not chords:
        raise NoChords("No tones were found in these tracks.")
    cents = tonal.tuning(tones)
    key = find_key(tonal.chroma(tones, tempo_map.beats().seconds, cents))
    with transaction.atomic():
        job.fence()
        harmony, _ = Harmony.objects.get_or_create(session=session)
        # what the engineer wrote, before or meanwhile, stays
        written = [c for c in harmony.step.timed_chords() if c.confidence is None] if harmony.step else []
        for c in written:
            chords = with_chord(chords, tempo_map, harmony.grain, c.seconds, c.chord)
        harmony.cents, harmony.key = cents, str(key)
        record(harmony, "Chords found", chords)
    return harmony
