"""Which of a chain's beats are music: the run of them that is likeliest, from what sounds at each.

Unlike posteriors (:func:`core.tracking.confidence.certain_range`) this does not ask whether the beats are the right
ones.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from core.listening.rates import FRAME_RATE
from core.tracking.confidence import maximum_near
from core.tracking.ends import TakeSound
from core.tracking.parameters import (
    CLOSE_TO_MUSIC,
    FEWEST_BEATS,
    MUSIC_WEIGHTS,
    NO_MUSIC,
    NO_MUSIC_A_BEAT,
    NO_MUSIC_A_BEAT_BETWEEN,
    SHORTEST_PAUSE,
    SHORTEST_PIECE,
    SURROUNDINGS,
)

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Beats that are looked at together with each, itself in the middle.
_TOGETHER = 9
#: Bounds of loudness, and of how far from flat a stretch is, against the likelier half of the take (natural logarithm).
_LOUDNESS, _PEAKEDNESS = (-4.0, 1.0), (-2.0, 1.0)


def music_features(frames: Ints, activation: Floats, onset_envelope: Floats, sound: TakeSound) -> Floats:
    """What tells whether there is music at each beat, ``(beats, features)``, in the order of
    :data:`core.tracking.parameters.MUSIC_WEIGHTS`. ``frames``: of all beats of a chain, two or more; ``activation``:
    how likely beats are; these and ``onset_envelope`` 100 frames a second."""
    count, together = len(onset_envelope), min(_TOGETHER, len(frames))

    def around(values: Floats) -> Floats:
        return np.asarray(uniform_filter1d(values, together, mode="nearest"))

    on = maximum_near(activation, frames / FRAME_RATE)
    on_around = around(on)
    # music may be the smaller part of a recording, but it is where beats are likely
    likely = on_around >= np.median(on_around)

    def against_usual(curve: Floats, bounds: tuple[float, float]) -> Floats:
        """Mean of a curve from each beat to the next, in nats above the median of the likelier half."""
        sums = np.concatenate([[0.0], np.cumsum(curve)])
        first = np.minimum(frames, count - 1)
        behind = np.maximum(np.minimum(np.append(frames[1:], 2 * frames[-1] - frames[-2]), count), first + 1)
        means = (sums[behind] - sums[first]) / (behind - first)
        return np.asarray(np.clip(np.log(means / (np.median(means[likely]) + 1e-9) + 1e-6), *bounds))

    loudness, peakedness = against_usual(sound.loudness, _LOUDNESS), against_usual(sound.peakedness, _PEAKEDNESS)
    onset = maximum_near(onset_envelope, frames / FRAME_RATE)
    features = (on, on_around, loudness, around(loudness), around(peakedness), onset)
    return np.column_stack([np.ones(len(frames)), *features])


def likeliest_music(log_odds: Floats) -> slice:
    """The run of beats that together are likeliest music: that with the largest sum (Bentley 1984). ``log_odds``: of
    each beat being music."""
    sums = np.concatenate([[0.0], np.cumsum(log_odds)])
    first = np.maximum.accumulate(np.where(sums == np.minimum.accumulate(sums), np.arange(len(sums)), 0))
    stop = int(np.argmax(sums[1:] - sums[first[:-1]])) + 1
    return slice(int(first[stop - 1]), stop)


def music_beats(frames: Ints, activation: Floats, onset_envelope: Floats, sound: TakeSound) -> Ints:
    """Those of a chain's beats that lie in the likeliest run of music."""
    if len(frames) < FEWEST_BEATS:
        return frames
    return frames[likeliest_music(music_log_odds(frames, activation, onset_envelope, sound))]


def certainly_none(frames: Ints, activation: Floats, onset_envelope: Floats, sound: TakeSound) -> tuple[int, int]:
    """How many of a chain's first beats, and of its last, certainly lie far outside the music: in talk, in applause, in
    silence."""
    if len(frames) < FEWEST_BEATS:
        return 0, 0
    log_odds = music_log_odds(frames, activation, onset_envelope, sound)
    run = likeliest_music(log_odds)

    def left_out(part: Floats) -> int:
        return len(part) - CLOSE_TO_MUSIC if _is_none(part) else 0

    return left_out(log_odds[: run.start]), left_out(log_odds[run.stop :])


def runs_of_music(frames: Ints, activation: Floats, onset_envelope: Floats, sound: TakeSound) -> list[slice]:
    """The runs of music among a chain's beats, one or more, where what lies between them certainly is none."""
    if len(frames) < FEWEST_BEATS:
        return [slice(0, len(frames))]
    return apart(music_log_odds(frames, activation, onset_envelope, sound))


def apart(log_odds: Floats, first: int = 0) -> list[slice]:
    """The same from the log-odds of each beat being music. ``first``: the number of the first of these beats."""
    pause = likeliest_music(-log_odds)
    before, after = log_odds[: pause.start], log_odds[pause.stop :]
    if not _is_none(log_odds[pause], SHORTEST_PAUSE, NO_MUSIC_A_BEAT_BETWEEN):
        return [slice(first, first + len(log_odds))]
    out = []
    if _is_piece(before):
        out += apart(before, first)
    if _is_piece(after):
        out += apart(after, first + pause.stop)
    return out or [slice(first, first + len(log_odds))]


def _is_none(log_odds: Floats, least: int = SURROUNDINGS, each: float = NO_MUSIC_A_BEAT) -> bool:
    """Whether some beats in a row, ``least`` or more, certainly are no music."""
    return len(log_odds) >= least and bool(log_odds.sum() < -max(NO_MUSIC, each * len(log_odds)))


def _is_piece(log_odds: Floats) -> bool:
    return len(log_odds) >= SHORTEST_PIECE and bool(log_odds[likeliest_music(log_odds)].sum() > NO_MUSIC)


def music_log_odds(frames: Ints, activation: Floats, onset_envelope: Floats, sound: TakeSound) -> Floats:
    """Of each beat of a chain being music, in nats."""
    weights = np.array(list(MUSIC_WEIGHTS.values()))
    return np.asarray(music_features(frames, activation, onset_envelope, sound) @ weights)
