"""Solving a stretch again between two fixed beats, with the scene that is already there."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from core.beats.counted import decode_counted
from core.beats.decoder import Leash, decode
from core.beats.laying import place
from core.beats.refine import to_attacks
from core.beats.scene import ACTIVATION, ACTIVATION_COUNTED, Scene, pulse_of
from core.listening.spectrum import FRAME_RATE
from core.tempomap import TempoMap
from core.tempomap.edits import EditError, move_beat, pins_of, with_every_beat
from core.tempomap.pulses import has_pulses, pulsed, same_place


def resolve(scene: Scene, tempo_map: TempoMap, first: int, last: int, beats: int | None = None) -> TempoMap:
    """Find the beats between felt beats ``first`` and ``last`` anew; both stay where they are, and so does
    every beat outside, to the bit. Pins inside are kept.

    ``beats`` asks for exactly that many from ``first`` to ``last``; otherwise the number may change, and the
    beats and meters after the stretch are renumbered. Uneven meters are solved on their pulse. Raises
    :class:`core.tempomap.edits.EditError`.
    """
    if has_pulses(tempo_map):
        even = pulsed(tempo_map)
        begin, end = (round(same_place(x, tempo_map, even)) for x in (first, last))
        solved = resolve(scene.by_attacks(), with_every_beat(even), begin, end, None if beats is None else end - begin)
        return replace(solved, meters=tempo_map.meters)
    index = np.round(tempo_map.meters.beat_of_quarters(tempo_map.quarters)).astype(int)
    if not index[0] <= first < last - 1 or last > index[-1]:
        raise EditError("Choose at least two beats inside the mapped music to solve again.")
    a, b = float(tempo_map.seconds_of_beat(first)), float(tempo_map.seconds_of_beat(last))
    pins = tempo_map.pins
    assert pins is not None
    inside = (tempo_map.seconds > a + 1e-9) & (tempo_map.seconds < b - 1e-9)
    fixed = np.concatenate([[a], tempo_map.seconds[inside & pins], [b]])
    lo = max(0, round(a * FRAME_RATE))
    hi = min(len(scene.pulse) - 1, round(b * FRAME_RATE))
    frames_fixed = np.round(fixed * FRAME_RATE).astype(np.int64) - lo
    weight = ACTIVATION if beats is None else ACTIVATION_COUNTED
    part = pulse_of(scene.curve[lo : hi + 1], scene.ear[lo : hi + 1], weight)
    frames_fixed = frames_fixed[frames_fixed < len(part)]
    if beats is None:
        local = _local_bpm(tempo_map, first, last)
        chain, _ = decode(part, local / 1.6, local * 1.6, local, Leash(change=0.6), frames_fixed)
    else:
        chain = decode_counted(part, beats, pins=frames_fixed)
    chain = chain + lo
    if len(chain) < 2 or abs(chain[0] / FRAME_RATE - a) > 0.02 or abs(chain[-1] / FRAME_RATE - b) > 0.02:
        raise EditError("No chain of beats fits between these two. Set a pin between them and try again.")
    seconds, _ = place(scene, chain, fixed)
    seconds[0], seconds[-1] = a, b
    if (np.diff(seconds) <= 0).any():
        raise EditError("The beats found here would overlap. Set a pin between them and try again.")
    shift = len(seconds) - 1 - (last - first)
    before, after = tempo_map.seconds <= a + 1e-9, tempo_map.seconds >= b - 1e-9
    counted = tempo_map.meters.beat_of_quarters(tempo_map.quarters)
    new_index = np.concatenate([counted[before], first + np.arange(1, len(seconds) - 1), counted[after] + shift])
    new_seconds = np.concatenate([tempo_map.seconds[before], seconds[1:-1], tempo_map.seconds[after]])
    new_pins = np.concatenate([pins[before], np.isin(seconds[1:-1], fixed), pins[after]])
    meters = tempo_map.meters.moved(last, shift)
    return replace(tempo_map, meters=meters).with_points(new_seconds, meters.quarters_of_beat(new_index), new_pins)


def _local_bpm(tempo_map: TempoMap, first: int, last: int) -> float:
    """Felt tempo around the stretch, from the beats outside it where there are some."""
    beats = tempo_map.beats()
    gaps = np.diff(beats.seconds)
    k = beats.index[:-1]
    near = gaps[((k >= first - 8) & (k < first)) | ((k >= last) & (k < last + 8))]
    return float(60 / np.median(near if len(near) else gaps))


#: Beats on either side of a moved one that are solved again where no pin is nearer.
AROUND = 12


def move_and_solve(scene: Scene, tempo_map: TempoMap, beat: int, to: float) -> TempoMap:
    """Pin ``beat`` at ``to`` (seconds) and find the beats on both sides anew, up to the next pins, with as many
    beats as before. Raises :class:`core.tempomap.edits.EditError`."""
    full = with_every_beat(tempo_map)
    index = full.meters.beat_of_quarters(full.quarters)
    pinned = index[pins_of(full)]
    first = max([beat - AROUND, int(np.ceil(index[0])), *np.round(pinned[pinned < beat - 0.5]).astype(int)])
    last = min([beat + AROUND, int(np.floor(index[-1])), *np.round(pinned[pinned > beat + 0.5]).astype(int)])
    # unpinned neighbours would stand in the way of a far move; they are found anew anyway
    keep = (index <= first + 1e-6) | (index >= last - 1e-6) | (np.abs(index - beat) < 1e-6)
    moved = move_beat(full.with_points(full.seconds[keep], full.quarters[keep], pins_of(full)[keep]), beat, to)
    for a, b in ((beat, last), (first, beat)):
        if b - a >= 2:
            moved = resolve(scene, moved, a, b, b - a)
    return with_every_beat(moved)


def settle(scene: Scene, tempo_map: TempoMap, known: np.ndarray) -> TempoMap:
    """Put beats that were only reckoned (not among the times ``known``) on the attacks beside them, where there
    are some; the others stay to the bit."""
    full = with_every_beat(tempo_map)
    placed = to_attacks(full.seconds, scene.players, scene.ranks, scene.curve, scene.ear[:, 0])
    new = (np.abs(full.seconds[:, None] - known[None, :]).min(axis=1) > 1e-6) & (placed.support > 0.2) & ~pins_of(full)
    seconds = np.where(new, placed.seconds, full.seconds)
    return full.with_points(seconds, full.quarters, pins_of(full)) if (np.diff(seconds) > 0.02).all() else full
