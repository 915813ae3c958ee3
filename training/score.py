"""What is to be performed: notes in felt beats, before anybody plays them."""

from __future__ import annotations

import json
import zlib
from dataclasses import asdict, dataclass, field
from pathlib import Path


@dataclass(frozen=True)
class ScoreNote:
    """``at`` and ``length`` in felt beats from the first bar line; MIDI ``pitch``; ``velocity`` 1 to 127."""

    at: float
    length: float
    pitch: int
    velocity: int


@dataclass
class ScoreTrack:
    """One player. ``program``: General MIDI, 0 to 127, or -1 for drums."""

    name: str
    program: int
    notes: list[ScoreNote] = field(default_factory=list)


@dataclass
class Score:
    """``bars``: number of felt beats of every bar; ``bpm``: felt beats a minute that suit it; ``source``: its
    name, by which learning and evaluation are kept apart. ``bars_known``: whether bar lines can be trusted.
    ``free``: how freely such music is played, 0 (a machine) to 1 (a soloist who waits and hurries)."""

    source: str
    tracks: list[ScoreTrack]
    bars: list[int]
    bpm: float
    bars_known: bool = True
    free: float = 0.2

    @property
    def beats(self) -> int:
        return sum(self.bars)


def is_for_evaluation(source: str) -> bool:
    """One source in five is kept for evaluation, the same ones for ever."""
    return zlib.crc32(source.encode()) % 5 == 0


def excerpt(score: Score, first: int, last: int) -> Score:
    """Bars ``first`` up to ``last`` (exclusive, counted from 0)."""
    start, end = sum(score.bars[:first]), sum(score.bars[:last])
    tracks = []
    for t in score.tracks:
        inside = [
            ScoreNote(n.at - start, min(n.length, end - n.at), n.pitch, n.velocity)
            for n in t.notes
            if start - 1e-6 <= n.at < end - 1e-6
        ]
        if inside:
            tracks.append(ScoreTrack(t.name, t.program, inside))
    return Score(score.source, tracks, score.bars[first:last], score.bpm, score.bars_known, score.free)


def repeated(score: Score, times: int) -> Score:
    """The whole piece several times over."""
    tracks = [
        ScoreTrack(
            t.name,
            t.program,
            [ScoreNote(n.at + k * score.beats, n.length, n.pitch, n.velocity) for k in range(times) for n in t.notes],
        )
        for t in score.tracks
    ]
    return Score(score.source, tracks, score.bars * times, score.bpm, score.bars_known, score.free)


def save(score: Score, path: Path) -> None:
    path.write_text(json.dumps(asdict(score)))


def load(path: Path) -> Score:
    d = json.loads(path.read_text())
    tracks = [ScoreTrack(t["name"], t["program"], [ScoreNote(**n) for n in t["notes"]]) for t in d.pop("tracks")]
    return Score(tracks=tracks, **d)
