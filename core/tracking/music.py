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
    return frames[likeliest_music(_log_odds(frames, activation, onset_envelope, sound))]


def certainly_none(frames: Ints, activation: Floats, onset_envelope: Floats, sound: TakeSound) -> tuple[int, int]:
    """How many of a chain's first beats, and of its last, certainly lie far outside the music: in talk, in applause, in
    silence."""
    if len(frames) < FEWEST_BEATS:
        return 0, 0
    log_odds = _log_odds(frames, activation, onset_envelope, sound)
    run = likeliest_music(log_odds)

    def left_out(part: Floats) -> int:
        clear = part.sum() < -max(NO_MUSIC, NO_MUSIC_A_BEAT * len(part))
        return len(part) - CLOSE_TO_MUSIC if clear and len(part) >= SURROUNDINGS else 0

    return left_out(log_odds[: run.start]), left_out(log_odds[run.stop :])


def _log_odds(frames: Ints, activation: Floats, onset_envelope: Floats, sound: TakeSound) -> Floats:
    weights = np.array(list(MUSIC_WEIGHTS.values()))
    return np.asarray(music_features(frames, activation, onset_envelope, sound) @ weights)
