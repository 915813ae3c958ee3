"""A MIDI performance as a track: its notes are the attacks, exactly; a plain rendering makes it heard and seen."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile as sf

from core.formats.smf import Note, read_notes
from core.instruments import voices
from core.instruments.render import sounded
from core.listening.attacks import Attacks
from core.listening.track import Heard, Progress, listen, no_progress

MIDI_SUFFIXES = (".mid", ".midi")
RENDER_RATE = 48_000


def is_midi(name: str) -> bool:
    return name.lower().endswith(MIDI_SUFFIXES)


def note_attacks(notes: list[Note]) -> Attacks:
    """Notes within 12 ms are one stroke; low and loud ones count for more, as they carry the beat."""
    starts = np.array([n.start for n in notes])
    worth = np.array([n.velocity / 127 * (1.25 if n.pitch < 55 else 1.0) for n in notes])
    opens = np.concatenate(([True], np.diff(starts) > 0.012))
    group = np.cumsum(opens) - 1
    total = np.bincount(group, worth)
    # a stroke sits where its weight sits
    centre = np.bincount(group, worth * starts) / np.maximum(total, 1e-9)
    return Attacks(centre, np.minimum(1.0, np.sqrt(total / np.percentile(total, 95))), np.ones(len(centre)))


def render(path: Path, name: str, target: Path) -> None:
    """Write the performance as a mono FLAC at ``target``. Raises :class:`core.formats.smf.MidiError`."""
    notes = read_notes(path, name)
    frames = round((max(n.end for n in notes) + 1.0) * RENDER_RATE)
    x = sounded(notes, voices.keys, RENDER_RATE, frames, np.random.default_rng(0))
    partial = target.with_suffix(".partial")
    sf.write(partial, 0.7 * x / max(1e-9, float(np.abs(x).max())), RENDER_RATE, "PCM_24", format="FLAC")
    partial.replace(target)


def listen_to_midi(path: Path, name: str, rendered: Path, progress: Progress = no_progress) -> Heard:
    """As :func:`core.listening.track.listen`, from the file :func:`render` wrote, with the notes as attacks."""
    heard = listen(rendered, name, progress=progress)
    return replace(heard, attacks=note_attacks(read_notes(path, name)))
