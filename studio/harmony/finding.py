"""Listening to a session's tracks for their tones."""

from core.following.chordline import heard
from core.following.chords import find_key
from core.listening import audio, tonal
from studio.harmony.models import Harmony, record
from studio.library.models import Session


class NoChords(ValueError):
    """Chords that cannot be found, in words for the engineer."""


def find_chords(session: Session, report) -> Harmony:
    """Find the chords of every beat, the key and the tuning; a step of the chords' history. ``report(stage, share)``
    may raise to cancel. Raises :class:`NoChords`."""
    if session.step is None:
        raise NoChords("Chords are found beat by beat, and this session has no map yet. Find its beats first.")
    tracks = [t for t in session.tracks.all() if t.heard]
    parts = []
    for i, track in enumerate(tracks):
        report(f"Listening for tones in {track.name}"[:200], i / len(tracks))
        parts.append(tonal.tones(audio.mono_at(track.playback, tonal.RATE, session.rate)))
    found = tonal.joined(parts)
    tempo_map = session.step.tempo_map
    spots = heard(found, tempo_map)
    if not spots:
        raise NoChords("No tones were found in these tracks.")
    cents = tonal.tuning(found)
    key = find_key(tonal.chroma(found, tempo_map.beats().seconds, cents))
    harmony, _ = Harmony.objects.get_or_create(session=session)
    harmony.cents, harmony.key = cents, str(key)
    record(harmony, "Chords found", spots)
    return harmony
