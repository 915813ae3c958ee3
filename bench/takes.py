"""The performances that are measured: our own demos always, the practice folder beside the project where it is.

Practice folders, by name: every second one (the first, third, ...) was used while developing the tracker; the
others were kept unseen and only measured, until the choice of tempo level was worked on with all of them.
"""

import json
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from core.demo import boathouse, others
from core.demo.files import write_tracks

PRACTICE = Path(__file__).resolve().parents[2] / "shared" / "practice"


#: Groups of practice takes in which nobody drums.
WITHOUT_DRUMS = ("no-drums", "ambient")


@dataclass
class Take:
    """Files that start together and the beats they hold, in seconds from the first downbeat on."""

    name: str
    group: str
    files: list[Path]
    beats: np.ndarray
    downbeats: np.ndarray
    seen: bool


def practice() -> list[Take]:
    if not PRACTICE.is_dir():
        return []
    out = []
    for i, folder in enumerate(sorted(p for p in PRACTICE.iterdir() if p.is_dir())):
        truth = json.loads((folder / "truth.json").read_text())
        files = [folder / stem for stem in truth["stems"]]
        beats, downs = np.array(truth["beats"]), np.array(truth["downbeats"])
        out.append(Take(folder.name, truth["group"], files, beats, downs, seen=i % 2 == 0))
    return out


def demos(folder: Path) -> list[Take]:
    """Our own performances, rendered into ``folder``; the rubato one as MIDI."""
    out = []
    for play in (boathouse.perform, others.machine, others.rubato):
        performance = play()
        place = Path(tempfile.mkdtemp(dir=folder))
        files = write_tracks(performance, place)
        beats = performance.truth.beats()
        music = beats.seconds >= performance.first_beat - 1e-6
        downs = beats.seconds[music & (beats.beat == 1)]
        out.append(Take(performance.title, "demo", files, beats.seconds[music], downs, seen=True))
    return out
