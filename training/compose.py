"""A made-up performance from a seed: who plays, what, and when it really sounds."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from training import players
from training.piece import Floats, Part, Plan, Rng, beat_seconds, plan


@dataclass(frozen=True)
class Note:
    """A sounding note: seconds, MIDI pitch, velocity 1 to 127."""

    start: float
    end: float
    pitch: int
    velocity: int


@dataclass(frozen=True)
class Performance:
    """``tracks``: (name, program or -1 for drums, notes); ``beats`` in seconds, ``first`` says which open a bar;
    ``lead``: when the first note sounds; what lies between it and the first beat may be counted or not.
    ``over``: when the last note has ended; applause may follow."""

    tracks: list[tuple[str, int, list[Note]]]
    beats: Floats
    first: np.ndarray
    lead: float
    over: float


KINDS = {
    "band": 0.26,
    "rhythm": 0.05,
    "trio": 0.10,
    "duo": 0.12,
    "solo": 0.18,
    "line": 0.13,
    "voices": 0.09,
    "pads": 0.07,
}


def _cast(rng: Rng, kind: str, p: Plan) -> list[Part]:
    if kind == "band":
        out = [*players.drums(rng, p), players.bass(rng, p), players.chords(rng, p)]
        out += [players.chords(rng, p)] if rng.random() < 0.4 else []
        return out + ([players.melody(rng, p)] if rng.random() < 0.6 else [])
    if kind == "rhythm":
        return players.drums(rng, p) + ([players.bass(rng, p)] if rng.random() < 0.6 else [])
    if kind == "trio":
        return [players.bass(rng, p), players.chords(rng, p), players.melody(rng, p)]
    if kind == "duo":
        return [players.chords(rng, p), players.melody(rng, p)]
    if kind == "solo":
        own = players.chords(
            rng, p, str(rng.choice(["strum", "strum", "broken", "broken", "answer", "figure", "beats"]))
        )
        if own.program in (0, 1, 4, 5, 6) and rng.random() < 0.6:  # a right hand
            right = players.melody(rng, p, (own.program,))
            own.strokes += right.strokes
        return [own]
    if kind == "line":
        return [players.melody(rng, p)]
    if kind == "voices":
        return players.voices(rng, p)
    return [players.chords(rng, p, "pad"), players.bass(rng, p), players.melody(rng, p, players.PLUCKED)]


def compose(seed: int) -> Performance:
    """Performance number ``seed``; the same for ever."""
    rng = np.random.default_rng(seed)
    kind = str(rng.choice(list(KINDS), p=np.array(list(KINDS.values())) / sum(KINDS.values())))
    alone = kind in ("solo", "line", "voices", "duo")
    free = float(rng.uniform(0.3, 1.0)) if alone and rng.random() < 0.7 else float(rng.uniform(0, 0.3))
    p = plan(rng, float(rng.uniform(30, 50)), free)
    cast = _cast(rng, kind, p)
    _rest(rng, p, cast)
    lengths = _odd_bars(rng, p, cast)
    before = p.beats if rng.random() < 0.3 else 1
    total = sum(lengths)
    beats = beat_seconds(rng, p, before, 2)[: before + total + 2] + rng.uniform(0.2, 2.5)
    index = np.arange(len(beats)) - before
    if before > 1 and any(part.program < 0 for part in cast):  # sticks count in
        sticks = Part("kick", -1, jitter=0.006)
        for k in range(-before, 0):
            sticks.add(k, 0.2, players.RIM, 0.8)
        cast.append(sticks)
    elif before > 1:
        _pickup(rng, p, cast[-1])
    if len(cast) == 1:
        cast[0].lean = 0.0
    tracks: dict[str, tuple[str, int, list[Note]]] = {}
    for part in cast:
        name = part.name if part.program < 0 or part.name not in tracks else part.name + " 2"
        _, _, notes = tracks.setdefault(name, (name, part.program, []))
        when: dict[float, float] = {}
        for s in part.strokes:
            if not -before <= s.at < total:
                continue
            off = when.setdefault(s.at, part.lean + part.jitter * float(np.clip(rng.standard_normal(), -2.5, 2.5)))
            start = float(np.interp(s.at, index, beats)) + off + s.late
            end = float(np.interp(s.at + s.length, index, beats)) + off
            notes.append(Note(max(0.0, start), max(start + 0.04, end), s.pitch, max(1, round(127 * s.loud))))
    sounding = [n for _, _, notes in tracks.values() for n in notes]
    inside = (index >= 0) & (index < total)
    opens = np.isin(index[inside], np.concatenate([[0], np.cumsum(lengths)]))
    lead, over = min(n.start for n in sounding), max(n.end for n in sounding)
    return Performance(list(tracks.values()), beats[inside], opens, float(lead), float(over))


def _rest(rng: Rng, p: Plan, cast: list[Part]) -> None:
    """Players who sit out some bars, and bars in which everybody stops."""
    for part in cast if len(cast) > 2 else []:
        if rng.random() < 0.2:
            start = int(rng.integers(p.bars)) * p.beats
            _silence(part, start, start + int(rng.integers(2, 9)) * p.beats)
    if len(cast) > 1 and rng.random() < 0.2:
        for bar in rng.integers(1, p.bars, int(rng.integers(1, 4))).tolist():
            start = (bar + 1) * p.beats - float(rng.integers(1, p.beats)) + 0.01
            for part in cast:
                _silence(part, start, (bar + 1) * p.beats - 0.6 / p.parts_of_beat)


def _silence(part: Part, start: float, end: float) -> None:
    part.strokes = [s for s in part.strokes if not start <= s.at < end]


def _odd_bars(rng: Rng, p: Plan, cast: list[Part]) -> list[int]:
    """Now and then a bar loses its last beats; the number of beats of every bar."""
    lengths = [p.beats] * p.bars
    if p.beats > 2 and rng.random() < 0.12:
        for bar in rng.choice(np.arange(2, p.bars), min(p.bars - 2, int(rng.integers(1, 3))), replace=False).tolist():
            lengths[bar] = int(rng.integers(max(1, p.beats - 2), p.beats))
    gone = 0
    for bar, length in enumerate(lengths):
        cut = p.beats - length
        if cut:
            start = bar * p.beats - gone + length
            for part in cast:
                _silence(part, start, start + cut)
                part.strokes = [s if s.at < start else replace(s, at=s.at - cut) for s in part.strokes]
            gone += cut
    return lengths


def _pickup(rng: Rng, p: Plan, part: Part) -> None:
    """Up to two beats of notes ahead of bar 1."""
    step = 1 / p.parts_of_beat
    pitch = part.strokes[0].pitch if part.strokes else 60
    for k in range(1, int(rng.integers(1, 2 * p.parts_of_beat + 1)) + 1):
        part.add(-k * step, step, players.near(p.scale, pitch + rng.integers(-5, 5)), 0.55)
