"""A made-up performance as files, as an engineer would have them."""

from __future__ import annotations

from pathlib import Path

import soundfile as sf

from core.demo.stage import Performance
from core.formats import smf


def write_tracks(performance: Performance, folder: Path) -> list[Path]:
    """The performance's tracks as 24-bit WAV files, or its notes as one MIDI file."""
    out = []
    for name, samples in performance.tracks.items():
        path = folder / f"{name}.wav"
        sf.write(path, samples, performance.rate, "PCM_24")
        out.append(path)
    if performance.notes:
        path = folder / "Keyboard.mid"
        smf.write_notes(performance.notes, performance.title).save(path)
        out.append(path)
    return out
