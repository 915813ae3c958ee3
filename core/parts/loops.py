"""An audio loop of a known number of beats, placed in bars beat by beat, its pitch kept."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import soxr
from numpy.typing import ArrayLike, NDArray

from core.audio import Samples, mono
from core.errors import InputError
from core.listening import attacks
from core.listening.rates import LISTENING_RATE
from core.listening.spectrum import evidence
from core.listening.track import as_loud_as_usual
from core.notes import Note, ScoreNote
from core.reshaping.stretch import time_stretched
from core.tempomap import Meters

#: A beat of the loop is named by a note's pitch, which ends at 127.
MOST_BEATS = 128


def loop_notes(meters: Meters, first: int, last: int, beats: int) -> list[ScoreNote]:
    """The loop's beats on the felt beats of bars ``first`` to ``last``, round and round: each as a note whose pitch is
    the beat's number in the loop, from 0. Raises :class:`core.errors.InputError`."""
    if not 1 <= beats <= MOST_BEATS:
        raise InputError(f"A loop has 1 to {MOST_BEATS} beats.")
    out: list[ScoreNote] = []
    for bar in range(first, last + 1):
        offsets = meters.meter_at(bar).beat_offsets.tolist()
        for a, b in zip(offsets, offsets[1:], strict=False):
            out.append(ScoreNote(bar, a, b - a, len(out) % beats, 100))
    return out


def attacks_in(source: Samples, rate: int) -> NDArray[np.float64]:
    """Seconds of the loop's attacks. It is analysed going round, as the one at its start has nothing before it."""
    length = len(source) / rate
    round_and_round = np.tile(mono(source), 3)
    signal = as_loud_as_usual(soxr.resample(round_and_round, rate, LISTENING_RATE, quality="MQ"))
    found = attacks.find_attacks(signal, evidence([signal])).seconds
    # an attack just before the line belongs to the stroke on it
    inside = found[(found >= length - 0.005) & (found < 2 * length - 0.005)] - length
    return np.asarray(np.maximum(inside, 0.0))


def render_loop(
    source: Samples, rate: int, beats: int, notes: Sequence[Note], frames: int, hits: ArrayLike = ()
) -> Samples:
    """``frames`` samples ``(frames, channels)`` of the loop ``source`` with each of its beats where a note has it.

    Beats that follow one another are stretched as one, so that nothing breaks between them; a beat left out is
    silence. ``hits``: seconds in the loop that keep their shape.
    """
    length = len(source) / rate
    beat = length / beats
    out = np.zeros((frames, source.shape[1]), dtype=np.float32)
    strokes = np.asarray(hits, dtype=np.float64)
    for run in _runs(notes, beats):
        rounds = int(np.ceil((run[0].pitch + len(run)) / beats))
        ins = beat * (run[0].pitch + np.arange(len(run) + 1))
        outs = np.array([*(n.start for n in run), run[-1].end])
        begin = max(0, int(np.floor(outs[0] * rate)) - 1)
        tiled = np.tile(source, (rounds, 1))
        part = time_stretched(
            tiled, rate, outs - begin / rate, ins, np.concatenate([strokes + k * length for k in range(rounds)])
        )
        last = min(frames, begin + len(part))
        if last > begin:
            out[begin:last] += part[: last - begin]
    return out


def _runs(notes: Sequence[Note], beats: int) -> list[list[Note]]:
    """Notes cut where a beat does not follow on the one before, in time or in the loop."""
    runs: list[list[Note]] = []
    for n in sorted(notes, key=lambda n: n.start):
        last = runs[-1][-1] if runs else None
        if last and abs(n.start - last.end) < 1e-4 and n.pitch == (last.pitch + 1) % beats:
            runs[-1].append(n)
        else:
            runs.append([n])
    return runs
