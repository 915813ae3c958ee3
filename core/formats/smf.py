"""The tempo map as a Standard MIDI File, and the notes of a performed one.

Standard MIDI Files 1.0 (RP-001): tempo is a whole number of microseconds a quarter, 24 bits; 120 a
minute when absent; time signatures carry the denominator as a power of two and the clocks a click.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import mido
import numpy as np
from numpy.typing import NDArray

from core.notes import Note
from core.tempomap import TICKS, Meter, MeterChange, TempoMap

Floats = NDArray[np.float64]
#: A lead-in faster than this (quarters a minute) is refused by many readers (common practice).
_HASTIEST = 300
_SLOWEST = 0xFFFFFF  # microseconds a quarter that 24 bits hold: 3.58 beats a minute


class MidiError(ValueError):
    """A MIDI file that cannot be read or written, in words for the engineer."""


@contextmanager
def reading(name: str) -> Iterator[None]:
    """Whatever a damaged file makes its reader raise, as a :class:`MidiError` with the file's name."""
    try:
        yield
    except MidiError:
        raise
    except (OSError, EOFError, ValueError, KeyError, IndexError, TypeError, ZeroDivisionError):
        raise MidiError(f"“{name}” is not a MIDI file that can be read.") from None


@dataclass(frozen=True)
class WrittenMidi:
    """A map as written: the file and what its rounding does.

    ``lead_in``: whole bars from the file's start to bar 1; ``worst``: the largest error of a bar line, in
    seconds, by the file's own whole microseconds. ``origin``: the quarter at tick 0; ``ticks`` and ``seconds``:
    where its tempos stand.
    """

    file: mido.MidiFile
    lead_in: int
    worst: float
    origin: float
    ticks: NDArray[np.int64]
    seconds: Floats

    def tick_of_quarter(self, quarter: float) -> int:
        """The tick of a position of the map."""
        return round((quarter - self.origin) * TICKS)

    def tick_of_second(self, seconds: float) -> int:
        """The tick nearest to a time, by the tempos as written."""
        return round(float(self._clock.quarters_at(seconds)))

    @cached_property
    def _clock(self) -> TempoMap:
        last = self.file.tracks[0]
        tail = next(m.tempo for m in reversed(last) if m.type == "set_tempo")
        step = tail / 1e6 / TICKS
        return TempoMap(np.append(self.seconds, self.seconds[-1] + step), np.append(self.ticks, self.ticks[-1] + 1.0))


def lead_in_bars(tempo_map: TempoMap) -> int:
    """Whole bars between time zero and bar 1: as many as make the lead-in's tempo closest to the music's."""
    start = float(tempo_map.bar_seconds(1))
    if start <= 1e-9:
        return 0
    length = tempo_map.meters.meter_at(1).quarters
    first = min(float(tempo_map.seconds[0]), start)
    pickup = max(0.0, -float(tempo_map.quarters[0]))
    if first <= 1e-9:
        return max(1, int(np.ceil(pickup / length - 1e-6)))
    # from time zero the lead-in proper runs to the pickup, or to bar 1
    music = first * float(tempo_map.bpm_at(tempo_map.seconds[0])) / 60
    least = max(1, int(np.floor(pickup / length + 1e-6)) + 1 if pickup else 1)
    options = np.arange(least, least + 2 + int((music + pickup) / length))
    return int(options[np.argmin(np.abs(np.log((options * length - pickup) / music)))])


def write(tempo_map: TempoMap, name: str = "Tempo map") -> WrittenMidi:
    """The map as a format 1 file; time zero of the file is time zero of the audio.

    The lead-in is whole bars at its own tempo. A tempo is written at every bar line and every point of the
    map; each takes up the rounding error so far, so that errors cannot pile up. Raises :class:`MidiError`.
    """
    lead = lead_in_bars(tempo_map)
    meters = tempo_map.meters
    first_bar = 1 - lead
    origin = float(meters.bar_quarters(first_bar))
    short_bar = None
    if tempo_map.quarters[0] - origin > _HASTIEST / 60 * tempo_map.seconds[0]:
        # The pickup begins with the recording: no whole bars fit before it. Its bar is written short,
        # evenly from time zero to bar 1.
        meter = meters.meter_at(1)
        short_bar = Meter(max(1, round(-float(tempo_map.quarters[0]) * meter.denominator / 4)), meter.denominator)
        origin = -short_bar.quarters
        first_bar = 0
        tempo_map = _from_bar_one(tempo_map, origin)
    last_bar = tempo_map.bar_range[1] + 1
    bars = np.arange(1, last_bar + 1)
    inside = tempo_map.quarters > origin + 1e-9
    places = np.concatenate([[origin], meters.bar_quarters(bars), tempo_map.quarters[inside]])
    ticks = np.unique(np.round((places - origin) * TICKS).astype(np.int64))
    # exact times of the ticks that are written, with the lead-in from time zero straight to the first point
    times = _times(tempo_map, origin, ticks)
    events: list[tuple[int, int, mido.MetaMessage]] = []
    clock = 0.0
    reached = np.zeros(len(ticks))
    for i in range(len(ticks)):
        reached[i] = clock
        if i + 1 < len(ticks):
            quarters = (ticks[i + 1] - ticks[i]) / TICKS
            tempo = round((times[i + 1] - clock) * 1e6 / quarters)
            if not 1 <= tempo <= _SLOWEST:
                raise MidiError(
                    f"Around {times[i]:.1f} s a quarter lasts {tempo / 1e6:.1f} s; a MIDI file holds at most 16.7 s."
                )
            clock += quarters * tempo / 1e6
        else:
            tempo = max(1, min(_SLOWEST, round(1e6 / tempo_map.tail_slope)))
        events.append((int(ticks[i]), 1, mido.MetaMessage("set_tempo", tempo=tempo)))
    opening = [MeterChange(0, short_bar)] if short_bar else []
    for change in [*opening, *meters.changes]:
        bar = first_bar if change.bar == 1 and not short_bar else change.bar
        if bar <= last_bar:
            tick = max(0, round((float(meters.bar_quarters(bar)) - origin) * TICKS))
            clocks = min(255, round(24 * change.meter.beat_offsets[1]))
            events.append(
                (
                    tick,
                    0,
                    mido.MetaMessage(
                        "time_signature",
                        numerator=change.meter.numerator,
                        denominator=change.meter.denominator,
                        clocks_per_click=clocks,
                    ),
                )
            )
    if lead:
        events.append((0, 2, mido.MetaMessage("marker", text="Lead-in")))
    for bar, q in zip(bars.tolist(), meters.bar_quarters(bars), strict=True):
        text = f"Bar {bar}" if bar < last_bar else "End"
        events.append((round((float(q) - origin) * TICKS), 2, mido.MetaMessage("marker", text=text)))
    track = mido.MidiTrack([mido.MetaMessage("track_name", name=latin(name))])
    now = 0
    for tick, _, message in sorted(events, key=lambda e: (e[0], e[1])):
        track.append(message.copy(time=tick - now))
        now = tick
    track.append(mido.MetaMessage("end_of_track"))
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS)
    file.tracks.append(track)
    return WrittenMidi(file, lead, float(np.abs(reached - times).max()), origin, ticks, reached)


def _from_bar_one(tempo_map: TempoMap, origin: float) -> TempoMap:
    """The map from bar 1 on, with an even stretch from ``origin`` at time zero to it."""
    later = tempo_map.quarters > 1e-9
    return TempoMap(
        np.concatenate([[0.0, float(tempo_map.bar_seconds(1))], tempo_map.seconds[later]]),
        np.concatenate([[origin, 0.0], tempo_map.quarters[later]]),
        tempo_map.meters,
        tail_bpm=60 * tempo_map.tail_slope,
    )


def _times(tempo_map: TempoMap, origin: float, ticks: NDArray[np.int64]) -> Floats:
    quarters = origin + ticks / TICKS
    times = tempo_map.seconds_at(quarters)
    start_q, start_t = tempo_map.quarters[0], tempo_map.seconds[0]
    lead = quarters < start_q
    if start_q > origin:
        times = np.where(lead, (quarters - origin) / (start_q - origin) * start_t, times)
    return np.asarray(times, dtype=np.float64)


def latin(text: str) -> str:
    """MIDI texts are Latin-1 to most readers; what it lacks becomes a question mark."""
    return text.encode("latin-1", "replace").decode("latin-1")


def read_notes(path: Path, name: str | None = None) -> list[Note]:
    """The notes of a performance at their performed seconds, by start. Raises :class:`MidiError`."""
    name = name or path.name
    with reading(name):
        file = mido.MidiFile(path, clip=True)
        if file.type == 2:
            raise MidiError(f"“{name}” holds several unrelated MIDI sequences; use one at a time.")
        sounding: dict[tuple[int, int], list[tuple[float, int]]] = {}
        notes: list[Note] = []
        now = 0.0
        for message in file:
            now += message.time
            if message.type == "note_on" and message.velocity:
                sounding.setdefault((message.channel, message.note), []).append((now, message.velocity))
            elif message.type in ("note_on", "note_off"):
                waiting = sounding.get((message.channel, message.note))
                if waiting:
                    start, velocity = waiting.pop(0)
                    notes.append(Note(start, now, message.note, velocity, message.channel))
        for (channel, pitch), waiting in sounding.items():  # never released
            notes += [Note(start, max(now, start), pitch, velocity, channel) for start, velocity in waiting]
    if not notes:
        raise MidiError(f"“{name}” holds no notes.")
    return sorted(notes, key=lambda n: (n.start, n.pitch))


def write_notes(notes: list[Note], name: str = "Performance") -> mido.MidiFile:
    """A performance as a format 1 file at a constant 120: 960 ticks a half second, good to 0.3 ms."""
    per_second = 2 * TICKS
    events = []
    for n in notes:
        events.append((round(n.start * per_second), 1, "note_on", n))
        events.append((max(round(n.end * per_second), round(n.start * per_second) + 1), 0, "note_off", n))
    track = mido.MidiTrack(
        [mido.MetaMessage("track_name", name=latin(name)), mido.MetaMessage("set_tempo", tempo=500_000)]
    )
    now = 0
    for tick, _, kind, n in sorted(events, key=lambda e: (e[0], e[1], e[3].pitch)):
        track.append(mido.Message(kind, note=n.pitch, velocity=n.velocity, channel=n.channel, time=tick - now))
        now = tick
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS)
    file.tracks.append(track)
    return file
