"""A MIDI performance as a track: its notes are the attacks, exactly; a plain rendering gives it a sound and a
waveform."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile as sf

from core.formats.smf import read_notes
from core.instruments import kit, voices
from core.instruments.render import render_notes
from core.listening.attacks import Attacks
from core.listening.track import AnalysedTrack, Progress, analyse_track, no_progress
from core.notes import Note

MIDI_SUFFIXES = (".mid", ".midi")
#: Samples a second of a rendered performance; its peak; what sounds on after the last note, in seconds.
RENDER_RATE = 48_000
_PEAK, _TAIL = 0.7, 1.0
#: Notes within so many seconds are one stroke.
_STROKE = 0.012
#: Notes below this pitch (G3) count for more, as they carry the beat.
_LOW_PITCH, _LOW_WEIGHT = 55, 1.25
#: Of the percussion keys (General MIDI, RP-003) those of bass drums and floor toms.
_LOW_DRUMS = (35, 36, 41, 43)


def is_midi(name: str) -> bool:
    """Whether a file of this name is taken for a MIDI performance."""
    return name.lower().endswith(MIDI_SUFFIXES)


def performance_seconds(notes: list[Note]) -> float:
    """Length of a performance once it is rendered."""
    return max(n.end for n in notes) + _TAIL


def note_attacks(notes: list[Note]) -> Attacks:
    """Attacks of performed notes: notes within 12 ms are one stroke; low and loud ones count for more."""
    starts = np.array([n.start for n in notes])
    weights = np.array([n.velocity / 127 * (_LOW_WEIGHT if _is_low(n) else 1.0) for n in notes])
    opens = np.concatenate(([True], np.diff(starts) > _STROKE))
    group = np.cumsum(opens) - 1
    total = np.bincount(group, weights)
    # a stroke sits at its notes' centre of weight
    centre = np.bincount(group, weights * starts) / np.maximum(total, 1e-9)
    return Attacks(centre, np.minimum(1.0, np.sqrt(total / np.percentile(total, 95))), np.ones(len(centre)))


def _is_low(note: Note) -> bool:
    return note.pitch in _LOW_DRUMS if note.channel == kit.PERCUSSION else note.pitch < _LOW_PITCH


def render(notes: list[Note], target: Path, progress: Progress = no_progress) -> None:
    """Write a performance as a mono FLAC at ``target``, whole or not at all: channel 10 on drums, all else on keys."""
    frames = round(performance_seconds(notes) * RENDER_RATE)
    rng = np.random.default_rng(0)
    drums = [n for n in notes if n.channel == kit.PERCUSSION]
    pitched = [n for n in notes if n.channel != kit.PERCUSSION]
    share = len(pitched) / len(notes)
    x = render_notes(pitched, voices.keys, RENDER_RATE, frames, rng, lambda done: progress(share * done))
    x += render_notes(drums, kit.drums, RENDER_RATE, frames, rng, lambda done: progress(share + (1 - share) * done))
    partial = target.with_suffix(".partial")
    sf.write(partial, _PEAK * x / max(1e-9, float(np.abs(x).max())), RENDER_RATE, "PCM_24", format="FLAC")
    partial.replace(target)


def analyse_midi(path: Path, name: str, rendered: Path, progress: Progress = no_progress) -> AnalysedTrack:
    """As :func:`core.listening.track.analyse_track`, with the notes as attacks; the performance is rendered to
    ``rendered``. Raises :class:`core.formats.smf.MidiError`."""
    notes = read_notes(path, name)
    render(notes, rendered, lambda x: progress(0.4 * x))
    track = analyse_track(rendered, name, progress=lambda x: progress(0.4 + 0.6 * x))
    return replace(track, attacks=note_attacks(notes))
