"""The files that are written for each performance."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import soundfile as sf

from core.following import click
from core.formats import jams, musicxml_map, smf, tables, timed_text
from core.formats.carried import CarriedMap, CarryError, carry
from core.tempomap import TempoMap
from core.tracking import TrackingResult

_CLICK_RATE = 48_000


@dataclass(frozen=True)
class Found:
    """What is written down of a take: its ``title``, its ``files``, their length, and the result."""

    title: str
    files: tuple[Path, ...]
    seconds: float
    result: TrackingResult

    @property
    def map(self) -> TempoMap:
        return self.result.map


def _json(found: Found, folder: Path) -> None:
    data = tables.map_json(found.map, found.seconds, found.result)
    _text(folder / "map.json", json.dumps(data, indent=1, ensure_ascii=False) + "\n")


def _jams(found: Found, folder: Path) -> None:
    beats = found.map.beats()
    sure = dict(zip(beats.index.tolist(), found.result.confidence.tolist(), strict=True))
    _text(folder / "map.jams", jams.write(found.map, found.seconds, found.title, confidence=sure))


def _click(found: Found, folder: Path) -> None:
    rate = next((sf.info(f).samplerate for f in found.files if f.suffix.lower() not in (".mid", ".midi")), _CLICK_RATE)
    frames = round(found.seconds * rate)
    made = click.render(click.clicks(found.map, rate, found.seconds), rate, frames)
    sf.write(folder / "click.wav", made, rate, "PCM_24", format="WAV")


def _tracks(found: Found, folder: Path) -> None:
    """Copies of the tracks with the map in them; kinds of files that cannot carry one are left out."""
    (folder / "tracks").mkdir(exist_ok=True)
    for file in found.files:
        try:
            carry(file, folder / "tracks" / file.name, CarriedMap(found.map, found.title))
        except CarryError:
            continue


def _midi(found: Found, folder: Path) -> None:
    smf.write(found.map, found.title).file.save(folder / "map.mid")


def _text(path: Path, text: str) -> None:
    path.write_text(text, encoding="utf-8", newline="")


WRITERS: dict[str, Callable[[Found, Path], None]] = {
    "json": _json,
    "midi": _midi,
    "csv": lambda found, folder: _text(folder / "beats.csv", tables.beats_csv(found.map)),
    "labels": lambda found, folder: _text(folder / "labels.txt", timed_text.label_track(found.map, beats=True)),
    "jams": _jams,
    "musicxml": lambda found, folder: _text(folder / "map.musicxml", musicxml_map.write(found.map, found.title)),
    "webvtt": lambda found, folder: _text(folder / "bars.vtt", timed_text.bars_vtt(found.map, found.seconds)),
    "click": _click,
    "tracks": _tracks,
}
