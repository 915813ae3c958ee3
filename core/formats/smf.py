"""The tempo map as a Standard MIDI File, and the notes of a performed one.

Standard MIDI Files 1.0 (RP-001): tempo is a whole number of microseconds a quarter, 24 bits; 120 a
minute when absent; time signatures carry the denominator as a power of two and the clocks a click.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import mido
import numpy as np
from mido.midifiles.meta import KeySignatureError
from numpy.typing import NDArray

from core.audio.files import LONGEST_SEC
from core.errors import InputError
from core.notes import MOST_NOTES, Note
from core.tempomap import TICKS, Meter, TempoMap

Floats = NDArray[np.float64]
#: A lead-in whose tempo is that near to the music's (natural logarithm) needs no short bar.
_NEAR_ENOUGH = 0.12
#: Music that begins this soon, in seconds, begins with the recording; what counts as time zero.
_AT_ONCE, _ZERO = 0.03, 1e-9
#: How far rounding may put a bar line off before a tempo is written that corrects it, in seconds.
_DRIFT = 5e-5
_SLOWEST = 0xFFFFFF  # microseconds a quarter that 24 bits hold: 3.58 beats a minute


#: Bytes of the largest file that is read.
LARGEST_FILE = 16 * 2**20


class MidiError(InputError):
    """A MIDI file that cannot be read or written, in words for the engineer."""


@contextmanager
def reading(name: str) -> Iterator[None]:
    """Whatever a damaged file makes its reader raise, as a :class:`MidiError` with the file's name."""
    try:
        yield
    except MidiError:
        raise
    except (OSError, EOFError, ValueError, ArithmeticError, LookupError, TypeError, struct.error, KeySignatureError):
        raise MidiError(f"“{name}” is not a MIDI file that can be read.") from None


@dataclass(frozen=True)
class WrittenMidi:
    """A map as written: the file and what its rounding does.

    ``lead_in``: what lies between the file's start and bar 1; ``worst``: the largest error of a bar line, in
    seconds, by the file's own whole microseconds. ``origin``: the quarter at tick 0; ``ticks`` and ``seconds``:
    where its tempos stand.
    """

    file: mido.MidiFile
    lead_in: LeadIn
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


@dataclass(frozen=True)
class LeadIn:
    """What lies between time zero and bar 1: ``short``, a short bar, the very first; then ``bars`` whole ones."""

    bars: int = 0
    short: Meter | None = None

    def quarters(self, meter: Meter) -> float:
        """Its length; ``meter``: that of bar 1."""
        return self.bars * meter.quarters + (self.short.quarters if self.short else 0.0)

    @property
    def words(self) -> str:
        """Like "2 bars", or "a bar of 1/4 and 2 bars"; nothing where bar 1 is time zero."""
        parts = [f"a short bar of {self.short}"] if self.short else []
        if self.bars:
            parts.append(f"{self.bars} bar{'s' * (self.bars > 1)}")
        return " and ".join(parts)


def lead_in(tempo_map: TempoMap) -> LeadIn:
    """Whole bars, where those have about the music's tempo; else as many beats as have it, in a short first bar."""
    start = float(tempo_map.bar_seconds(1))
    if start <= _ZERO:
        return LeadIn()
    meter = tempo_map.meters.meter_at(1)
    length = meter.quarters
    first = min(float(tempo_map.seconds[0]), start)
    pickup = max(0.0, -float(tempo_map.quarters[0]))
    if first < _AT_ONCE and pickup:  # the recording begins with the pickup
        return _divided(pickup, meter)
    # from time zero the lead-in proper runs to the pickup, or to bar 1
    music = first * float(tempo_map.bpm_at(tempo_map.seconds[0])) / 60
    least = int(np.floor(pickup / length + 1e-6)) + 1
    options = np.arange(least, least + 2 + int((music + pickup) / length))
    off = np.abs(np.log((options * length - pickup) / music))
    unit = next((u for u in (float(meter.beat_offsets[1]), 0.5, 0.25) if u < 1.5 * music), 0.125)
    beats = unit * max(1, round(music / unit))
    if off.min() <= _NEAR_ENOUGH or off.min() <= abs(np.log(beats / music)):
        return LeadIn(int(options[np.argmin(off)]))
    return _divided(pickup + beats, meter)


def _divided(quarters: float, meter: Meter) -> LeadIn:
    """Whole bars of a meter, and before them what is left as a short one."""
    bars = int(np.floor(quarters / meter.quarters + 1e-6))
    rest = quarters - bars * meter.quarters
    for denominator in (meter.denominator, 8, 16, 32):
        count = rest * denominator / 4
        if count > 0.5 and abs(count - round(count)) < 1e-6:
            return LeadIn(bars, Meter(round(count), denominator))
    # what no note value fits is written to the nearest 32nd
    return LeadIn(bars, Meter(max(1, round(rest * 8)), 32) if rest > 0.06 else None)


def with_count_in(tempo_map: TempoMap, bars: int) -> tuple[TempoMap, float]:
    """The map from so many bars before bar 1 on, which have the tempo of bar 1, and nothing else before it; and by how
    many seconds everything is later in it (earlier, below zero), so that the audio can be placed."""
    one, two = tempo_map.bar_seconds([1, 2]).tolist()
    length = float(tempo_map.meters.meter_at(1).quarters)
    later = bars * (two - one) - one
    after = tempo_map.quarters > 1e-9
    lead = ([0.0], [-bars * length]) if bars else ([], [])
    counted = TempoMap(
        np.array([*lead[0], one + later, *(tempo_map.seconds[after] + later)]),
        np.array([*lead[1], 0.0, *tempo_map.quarters[after]]),
        tempo_map.meters,
        tail_bpm=60 * tempo_map.tail_slope,
    )
    return counted, later


def write(
    tempo_map: TempoMap,
    name: str = "Tempo map",
    sections: Sequence[tuple[float, str]] = (),
    bar_markers: bool = True,
    chords: Sequence[tuple[float, str]] = (),
    key: str = "",
) -> WrittenMidi:
    """The map as a format 1 file; time zero of the file is time zero of the audio.

    Tempo and time signature stand at tick 0. The lead-in has its own tempo, near the music's. A tempo is written where
    the map's changes, and where rounding would otherwise put a bar line off by more than :data:`_DRIFT`; each takes up
    the error so far, so that errors cannot pile up. ``sections``: seconds and names, written as markers;
    ``bar_markers``: every bar line as one, too; ``chords``: seconds and symbols, written as text; ``key``: like
    ``D minor``, its key signature. Raises :class:`MidiError`.
    """
    meters = tempo_map.meters
    lead = lead_in(tempo_map)
    first = meters.meter_at(1)
    origin = -lead.quarters(first)
    if float(tempo_map.seconds[0]) < _AT_ONCE and tempo_map.quarters[0] < -1e-9:
        tempo_map = _from_bar_one(tempo_map, origin)
    last_bar = tempo_map.bar_range[1] + 1
    bars = np.arange(1, last_bar + 1)
    inside = tempo_map.quarters > origin + 1e-9
    places = np.concatenate([[origin], meters.bar_quarters(bars), tempo_map.quarters[inside]])
    ticks = np.unique(np.round((places - origin) * TICKS).astype(np.int64))
    # exact times of the ticks that are written, with the lead-in from time zero straight to the first point
    times = _times(tempo_map, origin, ticks)
    tempos, reached = _tempos(ticks, times, tempo_map.tail_slope)
    events: list[tuple[int, int, mido.MetaMessage]] = []
    changed = np.flatnonzero(np.append(True, np.diff(tempos) != 0))
    events += [(int(ticks[k]), 1, mido.MetaMessage("set_tempo", tempo=int(tempos[k]))) for k in changed]
    if lead.short:
        events.append((0, 0, _signature(lead.short)))
    opening = round(lead.short.quarters * TICKS) if lead.short else 0
    for change in meters.changes:
        at = round((float(meters.bar_quarters(change.bar)) - origin) * TICKS)
        if change.bar <= last_bar:
            events.append((opening if change.bar == 1 else at, 0, _signature(change.meter)))
    for seconds, text in sections:
        quarter = float(tempo_map.quarters_at(seconds))
        events.append((max(0, round((quarter - origin) * TICKS)), 2, _marker(text)))
    for seconds, text in chords:
        quarter = float(tempo_map.quarters_at(seconds))
        written = mido.MetaMessage("text", text=latin(text))
        events.append((max(0, round((quarter - origin) * TICKS)), 4, written))
    if key:
        events.append((0, 0, _key_signature(key)))
    if lead.words and bar_markers:
        events.append((0, 2, _marker("Lead-in")))
    for bar, q in zip(bars.tolist(), meters.bar_quarters(bars), strict=True) if bar_markers else ():
        events.append((round((float(q) - origin) * TICKS), 3, _marker(f"Bar {bar}" if bar < last_bar else "End")))
    track = mido.MidiTrack([mido.MetaMessage("track_name", name=latin(name))])
    now = 0
    for tick, _, message in sorted(events, key=lambda e: (e[0], e[1])):
        track.append(message.copy(time=tick - now))
        now = tick
    # the file is as long as the map, with or without markers at its end
    end = round((float(meters.bar_quarters(last_bar)) - origin) * TICKS)
    track.append(mido.MetaMessage("end_of_track", time=max(0, end - now)))
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS)
    file.tracks.append(track)
    return WrittenMidi(file, lead, float(np.abs(reached - times).max()), origin, ticks[changed], reached[changed])


def _tempos(ticks: NDArray[np.int64], times: Floats, tail_slope: float) -> tuple[NDArray[np.int64], Floats]:
    """The tempo (microseconds a quarter) from each tick on, and the time at which each tick is reached by them."""
    tempos = np.zeros(len(ticks), dtype=np.int64)
    reached = np.zeros(len(ticks))
    quarters = np.diff(ticks) / TICKS
    lasting = np.diff(times) * 1e6 / quarters  # a quarter, from tick to tick
    for i in range(len(ticks) - 1):
        kept = i > 0 and abs(lasting[i] - lasting[i - 1]) < 1e-4 * lasting[i]
        tempo = int(tempos[i - 1])
        if not kept or abs(reached[i] + quarters[i] * tempo / 1e6 - times[i + 1]) > _DRIFT:
            tempo = round((times[i + 1] - reached[i]) * 1e6 / quarters[i])
        if not 1 <= tempo <= _SLOWEST:
            words = f"Around {times[i]:.1f} s a quarter lasts {tempo / 1e6:.1f} s"
            raise MidiError(f"{words}; a MIDI file holds at most 16.7 s.")
        tempos[i] = tempo
        reached[i + 1] = reached[i] + quarters[i] * tempo / 1e6
    tail = max(1, min(_SLOWEST, round(1e6 / tail_slope)))
    tempos[-1] = tempos[-2] if len(tempos) > 1 and abs(tail - tempos[-2]) <= 1 else tail
    return tempos, reached


def _signature(meter: Meter) -> mido.MetaMessage:
    return mido.MetaMessage(
        "time_signature",
        numerator=meter.numerator,
        denominator=meter.denominator,
        clocks_per_click=max(1, min(255, round(24 * meter.beat_offsets[1]))),
    )


#: Key signatures go to six sharps or flats; other names of the same keys.
_SAME_KEYS = {"A# major": "Bb major", "D# major": "Eb major", "G# major": "Ab major", "Db minor": "C# minor",
              "Gb minor": "F# minor", "Ab minor": "G# minor", "Cb major": "B major"}  # fmt: skip


def _key_signature(key: str) -> mido.MetaMessage:
    """A key like ``Eb major`` or ``D minor``."""
    tonic, _, mode = _SAME_KEYS.get(key, key).partition(" ")
    return mido.MetaMessage("key_signature", key=tonic + ("m" if mode == "minor" else ""))


def _marker(text: str) -> mido.MetaMessage:
    return mido.MetaMessage("marker", text=latin(text))


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


def opened(path: Path, name: str) -> mido.MidiFile:
    """A file whose tracks belong together. Raises :class:`MidiError`, and what :func:`reading` turns into it."""
    if path.stat().st_size > LARGEST_FILE:
        raise MidiError(f"“{name}” is larger than any MIDI performance.")
    file = mido.MidiFile(path, clip=True)
    if file.type == 2:
        raise MidiError(f"“{name}” holds several unrelated MIDI sequences; use one at a time.")
    return file


def read_notes(path: Path, name: str | None = None) -> list[Note]:
    """The notes of a performance at their performed seconds, by start. Raises :class:`MidiError`."""
    name = name or path.name
    with reading(name):
        file = opened(path, name)
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
    if len(notes) > MOST_NOTES:
        raise MidiError(f"“{name}” holds {len(notes)} notes; Diachron reads up to {MOST_NOTES}.")
    if max(n.end for n in notes) > LONGEST_SEC:
        raise MidiError(f"“{name}” lasts longer than {LONGEST_SEC // 3600} hours.")
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
