"""What a keyboard sends becomes notes: channel voice messages of MIDI 1.0, stamped with the take's seconds."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from core.notes import Note
from core.tempomap import TempoMap

#: A message as it arrives: seconds of the take, status byte, two data bytes.
Message = tuple[float, int, int, int]
_OFF, _ON, _CONTROL = 0x8, 0x9, 0xB
_PEDAL = 64
#: Controller value from which on the pedal is down (MIDI 1.0).
_PEDAL_DOWN = 64
#: Seconds of the shortest note.
_SHORTEST = 0.01
#: The simulated player: seconds late, spread of its strokes, shortest stroke.
_LATE, _SPREAD, _SHORTEST_STROKE = 0.004, 0.006, 0.03


def notes_from(messages: Iterable[Message], end: float | None = None) -> list[Note]:
    """Notes by start. A note-on of velocity 0 releases; the hold pedal (controller 64, 64 and up) keeps what was
    released while it is down; what is never released ends at ``end`` or with the last message (MIDI 1.0)."""
    down: dict[tuple[int, int], tuple[float, int]] = {}
    held: dict[tuple[int, int], tuple[float, int]] = {}
    pedal: set[int] = set()
    out: list[Note] = []
    now = 0.0

    def close(key: tuple[int, int], start: float, velocity: int, at: float) -> None:
        out.append(Note(start, max(at, start + _SHORTEST), key[1], velocity, key[0]))

    for now, status, a, b in sorted(messages):
        kind, channel, key = status >> 4, status & 15, (status & 15, a)
        if kind == _ON and b:
            for where in (down, held):
                if key in where:
                    close(key, *where.pop(key), now)
            down[key] = (now, b)
        elif kind in (_ON, _OFF) and key in down:
            if channel in pedal:
                held[key] = down.pop(key)
            else:
                close(key, *down.pop(key), now)
        elif kind == _CONTROL and a == _PEDAL:
            if b >= _PEDAL_DOWN:
                pedal.add(channel)
            else:
                pedal.discard(channel)
                for k in [k for k in held if k[0] == channel]:
                    close(k, *held.pop(k), now)
    for where in (down, held):
        for k, (start, velocity) in where.items():
            close(k, start, velocity, max(now, end or now))
    return sorted(out, key=lambda n: (n.start, n.pitch))


#: The made-up take: quarters of a two-bar phrase in 4/4, semitones above the first note, length, velocity.
_PHRASE = (
    (0.0, 0, 0.9, 88), (1.0, 3, 0.45, 70), (1.5, 5, 0.45, 64), (2.0, 7, 1.4, 92), (3.5, 5, 0.4, 60),
    (4.0, 3, 0.9, 84), (5.0, 2, 0.9, 72), (6.0, 0, 1.8, 90),
)  # fmt: skip


def made_up_take(tempo_map: TempoMap, first: int, last: int, root: int = 62, seed: int = 11) -> Iterator[Message]:
    """A simulated player's messages for bars ``first`` to ``last``, by time: what a device would send while the take
    plays. Human timing: 6 ms of spread, 4 ms late."""
    rng = np.random.default_rng(seed)
    start = float(tempo_map.meters.bar_quarters(first))
    end = float(tempo_map.meters.bar_quarters(last + 1))
    found: list[Message] = []
    for turn in range(int(np.ceil((end - start) / 8))):
        for offset, step, length, velocity in _PHRASE:
            q = start + 8 * turn + offset
            if q >= end - 1e-9:
                continue
            on = float(tempo_map.seconds_at(q)) + _LATE + _SPREAD * float(np.clip(rng.standard_normal(), -2, 2))
            off = max(on + _SHORTEST_STROKE, float(tempo_map.seconds_at(min(end, q + length))))
            pitch = root + step - 12 * (turn % 4 == 3)
            found += [(max(0.0, on), 0x90, pitch, velocity), (off, 0x80, pitch, 64)]
    yield from sorted(found)
