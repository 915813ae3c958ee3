"""Composed music from the MIDI files of free games (Debian: freedoom, BSD; openttd-openmsx, GPL 2).

Their licences allow the files to be performed and listened to; no note of them is part of what is shipped.
"""

from __future__ import annotations

import io
import struct
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

import mido

from training.score import Score, ScoreNote, ScoreTrack

GAMES = Path("/usr/share/games")


def files() -> Iterator[tuple[str, bytes]]:
    """Names and contents of all MIDI files, each content once."""
    seen = set()
    for name, data in [*_in_archives(), *_in_folder()]:
        if data not in seen:
            seen.add(data)
            yield name, data


def _in_folder() -> Iterator[tuple[str, bytes]]:
    for path in sorted((GAMES / "openttd/baseset/openmsx").glob("*.mid")):
        yield path.stem, path.read_bytes()


def _in_archives() -> Iterator[tuple[str, bytes]]:
    """Entries of a directory of (offset, size, name) that begin like a MIDI file."""
    for path in sorted((GAMES / "doom").glob("freedoom*.wad")):
        data = path.read_bytes()
        count, at = struct.unpack("<II", data[4:12])
        for i in range(count):
            start, size, name = struct.unpack("<II8s", data[at + 16 * i : at + 16 * i + 16])
            if data[start : start + 4] == b"MThd":
                yield path.stem + name.rstrip(b"\0").decode(), data[start : start + size]


def score(name: str, data: bytes) -> Score | None:
    """The file as a score, or None where its notes do not lie on its own beats."""
    midi = mido.MidiFile(file=io.BytesIO(data))
    return from_midi(name, midi)


def from_midi(name: str, midi: mido.MidiFile, felt_per_bar: int | None = None) -> Score | None:
    """A score from a MIDI file. ``felt_per_bar`` overrides what its time signatures say."""
    signatures: list[tuple[int, int, int]] = []
    tempo, tempos = 500_000, []
    program = dict.fromkeys(range(16), 0)
    tracks: dict[tuple[int, int], ScoreTrack] = {}
    raw: list[tuple[tuple[int, int], int, int, int, int]] = []
    end = 0
    for k, track in enumerate(midi.tracks):
        now, held = 0, defaultdict(list)
        for m in track:
            now += m.time
            if m.type == "time_signature":
                signatures.append((now, m.numerator, m.denominator))
            elif m.type == "set_tempo":
                tempos.append((now, m.tempo))
            elif m.type == "program_change":
                program[m.channel] = m.program
            elif m.type == "note_on" and m.velocity:
                key = (k, m.channel)
                if key not in tracks:
                    tracks[key] = ScoreTrack(f"{len(tracks) + 1}", -1 if m.channel == 9 else program[m.channel])
                held[m.channel, m.note].append((now, m.velocity))
            elif m.type in ("note_off", "note_on") and held[m.channel, m.note]:
                start, velocity = held[m.channel, m.note].pop(0)
                raw.append(((k, m.channel), start, now - start, m.note, velocity))
                end = max(end, now)
    if len(raw) < 60 or end == 0:
        return None
    if tempos:
        lengths = [b[0] - a[0] for a, b in zip(tempos, [*tempos[1:], (end, 0)], strict=False)]
        tempo = tempos[max(range(len(tempos)), key=lambda i: lengths[i])][1]
    known = bool(signatures)
    signatures = sorted(signatures) or [(0, 4, 4)]
    if signatures[0][0] > 0:
        signatures.insert(0, (0, 4, 4))
    # felt beats: ticks at which they fall, from the time signatures
    grid, bars, ticks = [0], [], 0
    for (_, over, under), (until, *_) in zip(signatures, [*signatures[1:], (end, 0, 0)], strict=True):
        compound = under == 8 and over % 3 == 0 and over > 3
        if under > 8 or (under == 8 and not compound):
            return None
        unit = midi.ticks_per_beat * (1.5 if compound else 4 / under)
        count = felt_per_bar or (over // 3 if compound else over)
        if felt_per_bar:
            unit = midi.ticks_per_beat * 4 * over / under / felt_per_bar
        while ticks < until - 1:
            bars.append(count)
            for _ in range(count):
                ticks += unit
                grid.append(ticks)
    if len(bars) < 8:
        return None

    def felt(tick: float) -> float:
        k = min(int(tick / grid[-1] * (len(grid) - 1)), len(grid) - 2)
        while k > 0 and grid[k] > tick:
            k -= 1
        while k < len(grid) - 2 and grid[k + 1] <= tick:
            k += 1
        return k + (tick - grid[k]) / (grid[k + 1] - grid[k])

    on = 0
    for key, start, length, pitch, velocity in raw:
        at = felt(start)
        on += abs(at * 2 - round(at * 2)) < 0.06
        tracks[key].notes.append(ScoreNote(at, max(0.05, felt(start + length) - at), pitch, velocity))
    if on < 0.45 * len(raw):  # not written to its own beats
        return None
    unit = (grid[1] - grid[0]) / midi.ticks_per_beat
    found = [t for t in tracks.values() if len(t.notes) > 7]
    for t in found:
        t.notes.sort(key=lambda n: (n.at, n.pitch))
    return Score(name, found, bars, 60e6 / tempo / unit, known, 0.1) if found else None
