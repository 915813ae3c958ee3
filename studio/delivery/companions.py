"""The click and the parts as files beside reshaped tracks."""

from __future__ import annotations

from pathlib import Path

import soundfile as sf

from core.following import click
from studio.desk.clicks import clicks_of
from studio.jobs.registry import Report
from studio.library.models import Session
from studio.parts import sound
from studio.reshaping.files import safe_name

#: Samples that are made at a time.
_PIECE = 1 << 20


def write_click_and_parts(session: Session, folder: Path, seconds: float, subtype: str, report: Report) -> None:
    """Each part that sounds and the click, from zero, on the clock that the session has."""
    rate = session.sample_rate
    frames = round(seconds * rate)
    found = clicks_of(session, session.tempo_map)
    report("Writing click and parts", 0.9)
    sf.write(
        folder / "click.wav", click.render(found, rate, frames, session.click_style.sound), rate, subtype, format="WAV"
    )
    parts = list(session.parts.filter(gone=False).select_related("step", "step__tied_on"))
    for k, part in enumerate(parts):
        name = safe_name(f"part {part.name}", [p.name for p in folder.iterdir()])
        with sf.SoundFile(folder / name, "w", rate, 2, subtype, format="WAV") as file:
            for samples in sound.for_file(part, session.map_step, rate, frames):
                file.write(samples)
                report("Writing click and parts", 0.9 + 0.1 * (k + file.tell() / frames) / len(parts))
