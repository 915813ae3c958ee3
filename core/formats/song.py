"""MIDI files with several parts: read with their own bars and seconds, written with the map they follow.

Standard MIDI Files 1.0 (RP-001); programs and the percussion channel as in General MIDI (RP-003).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import mido
import numpy as np
from numpy.typing import NDArray

from core.formats.smf import MidiError, WrittenMidi, latin, opened, reading
from core.notes import SHORTEST, Note, ScoreNote
from core.tempomap import TICKS, Meter, Meters, TempoMap


@dataclass(frozen=True)
class SongPart:
    """The notes of one channel of one track: ``score_notes`` in the file's own bars, ``notes`` in its own seconds."""

    name: str
    program: int
    channel: int
    score_notes: list[ScoreNote]
    notes: list[Note]


@dataclass(frozen=True)
class Song:
    """``tempos``: whether the file has a tempo map of its own, more than one tempo."""

    parts: list[SongPart]
    tempos: int
    meters: Meters


def read_song(path: Path, name: str | None = None) -> Song:
    """All parts of a file. Raises :class:`core.formats.smf.MidiError`."""
    name = name or path.name
    with reading(name):
        file = opened(path, name)
        events, ppq = [_absolute(track) for track in file.tracks], file.ticks_per_beat
        clock, meters, tempos = _tempos_and_meters(events, ppq)
        parts = [p for number, track in enumerate(events) for p in _parts(track, number, clock, meters, ppq)]
    if not parts:
        raise MidiError(f"“{name}” holds no notes.")
    return Song(parts, tempos, meters)


def read_map(path: Path, name: str | None = None) -> TempoMap:
    """The tempo map of a file, with or without notes: bar 1 at its start, up to its last event.

    Raises :class:`core.formats.smf.MidiError`.
    """
    name = name or path.name
    with reading(name):
        file = opened(path, name)
        events, ppq = [_absolute(track) for track in file.tracks], file.ticks_per_beat
        clock, meters, _ = _tempos_and_meters(events, ppq)
        last = max((track[-1][0] for track in events if track), default=0) / ppq
        quarters = np.append(clock.quarters[:-1], last) if last > clock.quarters[-2] else clock.quarters
        return TempoMap(clock.seconds_at(quarters), quarters, meters, tail_bpm=clock.tail_bpm)


def _tempos_and_meters(events: list[list[tuple[int, mido.Message]]], ppq: int) -> tuple[TempoMap, Meters, int]:
    """The file's clock, its meters, and how many different tempos it has."""
    tempos = {0: 500_000}
    signatures: dict[int, Meter] = {}
    for tick, m in sorted((e for t in events for e in t), key=lambda e: e[0]):
        if m.type == "set_tempo":
            tempos[tick] = m.tempo
        elif m.type == "time_signature":
            signatures[tick] = Meter(m.numerator, m.denominator)
    meters = _meters(signatures, ppq)
    ticks = np.array(sorted(tempos))
    seconds = np.concatenate([[0.0], np.cumsum(np.diff(ticks) * [tempos[t] for t in ticks[:-1]] / 1e6 / ppq)])
    tail = 60e6 / tempos[int(ticks[-1])]
    return _clock(ticks / ppq, seconds, tail), meters, len(set(tempos.values()))


def _absolute(track: mido.MidiTrack) -> list[tuple[int, mido.Message]]:
    now, out = 0, []
    for m in track:
        now += m.time
        out.append((now, m))
    return out


def _meters(signatures: dict[int, Meter], ppq: int) -> Meters:
    """Meters by bar. A change inside a bar is taken at the next bar line, as no bar can hold two."""
    meters = Meters()
    for tick, meter in sorted(signatures.items()):
        bar = int(np.ceil(_bar(meters, tick / ppq) - 1e-9))
        meters = meters.with_meter(bar, meter)
    return meters


def _bar(meters: Meters, quarter: float) -> float:
    bar = int(meters.bars_at(quarter))
    return bar + (quarter - float(meters.bar_quarters(bar))) / meters.meter_at(bar).quarters


def _clock(quarters: NDArray[Any], seconds: NDArray[Any], tail: float) -> TempoMap:
    """The file's own tempo map."""
    return TempoMap(np.append(seconds, seconds[-1] + 60 / tail), np.append(quarters, quarters[-1] + 1), tail_bpm=tail)


def _parts(
    track: list[tuple[int, mido.Message]], number: int, clock: TempoMap, meters: Meters, ppq: int
) -> list[SongPart]:
    title = next((m.name for _, m in track if m.type == "track_name" and m.name.strip()), f"Track {number + 1}")
    programs: dict[int, int] = {}
    open_notes: dict[tuple[int, int], list[tuple[int, int]]] = {}
    found: dict[int, list[tuple[int, int, int, int]]] = {}
    last = track[-1][0] if track else 0
    for tick, m in track:
        if m.type == "program_change":
            programs.setdefault(m.channel, m.program)
        elif m.type == "note_on" and m.velocity:
            open_notes.setdefault((m.channel, m.note), []).append((tick, m.velocity))
        elif m.type in ("note_on", "note_off") and open_notes.get((m.channel, m.note)):
            since, velocity = open_notes[m.channel, m.note].pop(0)
            found.setdefault(m.channel, []).append((since, tick, m.note, velocity))
    for (channel, pitch), waiting in open_notes.items():  # never released
        found.setdefault(channel, []).extend((tick, last, pitch, velocity) for tick, velocity in waiting)
    out = []
    for channel, rows in sorted(found.items()):
        rows.sort()
        start = np.array([r[0] for r in rows]) / ppq
        stop = np.maximum(start + SHORTEST, np.array([r[1] for r in rows]) / ppq)
        bars = meters.bars_at(start)
        offsets = np.maximum(0.0, start - meters.bar_quarters(bars))
        times = zip(clock.seconds_at(start).tolist(), clock.seconds_at(stop).tolist(), rows, strict=True)
        notes = [Note(a, b, r[2], r[3], channel) for a, b, r in times]
        places = zip(bars.tolist(), offsets.tolist(), (stop - start).tolist(), rows, strict=True)
        positions = [ScoreNote(b, o, d, r[2], r[3], channel) for b, o, d, r in places]
        name = title if len(found) == 1 else f"{title}, channel {channel + 1}"
        out.append(SongPart(name, programs.get(channel, 0), channel, positions, notes))
    return out


@dataclass(frozen=True)
class PartToWrite:
    """What :func:`write_song` needs of a part: ``notes`` are placed (riding the bars) or in seconds."""

    name: str
    program: int
    percussion: bool
    notes: Sequence[ScoreNote] | Sequence[Note]


def write_song(written: WrittenMidi, tempo_map: TempoMap, parts: Sequence[PartToWrite]) -> mido.MidiFile:
    """The written map's file with a track for each part; general MIDI programs kept, percussion on channel 10.

    Notes that ride the bars stand at their exact ticks; those that keep the clock at the nearest tick of the map.
    """
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS)
    file.tracks += written.file.tracks
    free = [c for c in range(16) if c != 9]
    for i, part in enumerate(parts):
        channel = 9 if part.percussion else free[i % len(free)]
        track = mido.MidiTrack([mido.MetaMessage("track_name", name=latin(part.name))])
        if not part.percussion:
            track.append(mido.Message("program_change", program=part.program, channel=channel))
        events = []
        for n in part.notes:
            if isinstance(n, ScoreNote):
                q = float(tempo_map.meters.bar_quarters(n.bar)) + n.offset
                a, b = written.tick_of_quarter(q), written.tick_of_quarter(q + n.length)
            else:
                a, b = written.tick_of_second(n.start), written.tick_of_second(n.end)
            events += [(max(0, a), 1, "note_on", n), (max(0, a) + max(1, b - a), 0, "note_off", n)]
        now = 0
        for tick, _, kind, n in sorted(events, key=lambda e: (e[0], e[1], e[3].pitch)):
            track.append(mido.Message(kind, note=n.pitch, velocity=n.velocity, channel=channel, time=tick - now))
            now = tick
        track.append(mido.MetaMessage("end_of_track"))
        file.tracks.append(track)
    return file
