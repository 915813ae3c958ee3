"""Finding chords beat by beat: a hidden Markov model over the chords of :mod:`core.harmony.chord_model`."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.ndimage import uniform_filter1d

from core.harmony.chord_model import QUALITIES, features, log_likelihoods, registers
from core.harmony.chords import QUALITIES as TONES
from core.harmony.chords import Chord, find_key
from core.listening.tonal import Tones, chroma, tuning

Floats = NDArray[np.float64]
#: What a beat's evidence counts beside the prices of a change, and these prices in nats: within a bar, and where a bar
#: begins, beside an even chance for every other chord. Chosen on the songs for learning (``training/chords.py``).
_EVIDENCE, _LEAVE, _LEAVE_AT_BAR = 1.7, 3.5, -3.0
#: A beat with less than this share of the median strength is silent.
_SILENT = 0.05
#: The correlation with the likest chord at which no chord is as likely (99 in 100 beats of the songs for learning lie
#: above 0.72, noise about 0.5), and how much each step beside it counts.
_NOTHING, _SHARPNESS = 0.58, 14.0
#: Beats over which that correlation is averaged.
_AROUND = 5
#: How far soft tones are lifted before they are compared with a chord's.
_BOOST = 2.0
#: The fall from one overtone to the next (Gómez 2006), and how much the root counts beside the other tones.
_OVERTONE, _ROOT = 0.6, 1.15
#: A posterior is taken from evidence that counts so much: neighbouring beats hear the same notes.
_CERTAINTY = 0.3


@dataclass(frozen=True)
class ChordSpan:
    """A chord from one beat up to the next change: ``place`` of its beat, ``confidence`` 0 to 1."""

    place: int
    chord: Chord
    confidence: float


def find_chords(tones: Tones, edges: ArrayLike, downbeat: NDArray[np.bool_]) -> list[ChordSpan]:
    """Chords beat by beat, joined where they stay.

    ``edges``: seconds of the beats, and of the end of the last one; ``downbeat``: which beats open a bar, where chords
    change most readily. The most probable path of the model (Viterbi); confidence is the posterior of the path's chord
    (forward-backward), averaged over its beats (Rabiner 1989).
    """
    if not len(downbeat):
        return []
    cents = tuning(tones)
    by_class = chroma(tones, edges, cents)
    begin, go_on = log_likelihoods(features(registers(tones, edges, cents), downbeat))
    nothing = _nothing(by_class)
    silent = (by_class.sum(axis=1) < _SILENT * np.median(by_class.sum(axis=1)))[:, None]
    evidence = []
    for likely in (begin, go_on):
        likely = np.where(silent, -np.log(likely.shape[1]), likely)
        evidence.append(np.concatenate([likely, likely.max(axis=1, keepdims=True) + nothing[:, None]], axis=1))
    first, other = (_EVIDENCE * e for e in evidence)
    staying = np.where(downbeat[:, None], first, other)
    leave = np.where(downbeat, _LEAVE_AT_BAR, _LEAVE) + np.log(first.shape[1] - 2)
    path = _best_path(first, staying, leave)
    sure = _posterior(_CERTAINTY * first, _CERTAINTY * staying, leave)[np.arange(len(path)), path]
    starts = np.flatnonzero(np.concatenate([[True], np.diff(path) != 0]))
    ends = np.append(starts[1:], len(path))
    flat = find_key(by_class).flat
    return [
        ChordSpan(a, _chord(int(path[a]), flat), float(sure[a:b].mean()))
        for a, b in zip(starts.tolist(), ends.tolist(), strict=True)
    ]


def _chord(number: int, flat: bool) -> Chord:
    root, quality = divmod(number, len(QUALITIES))
    return Chord(root, QUALITIES[quality], flat=flat) if root < 12 else Chord(None, flat=flat)


def _templates() -> Floats:
    """``(84, 12)``: the tones of each chord with their first overtones, each falling to 0.6 of the last (Gómez, "Tonal
    description of polyphonic audio", 2006), about 0 and of spread 1."""
    rows = []
    overtones = [
        (0, 1 + _OVERTONE + _OVERTONE**3),
        (7, _OVERTONE**2 + _OVERTONE**5),
        (4, _OVERTONE**4),
        (10, _OVERTONE**6),
    ]
    for root in range(12):
        for quality in QUALITIES:
            row = np.zeros(12)
            for step in TONES[quality]:
                for above, worth in overtones:
                    row[(root + step + above) % 12] += worth * (_ROOT if step == 0 else 1.0)
            rows.append((row - row.mean()) / row.std())
    return np.array(rows)


_ROWS = _templates()


def _nothing(by_class: Floats) -> Floats:
    """How much likelier no chord is than the likest one, in nats: where the tones of a beat are like no chord's."""
    level = np.log1p(_BOOST * by_class / (np.median(by_class.sum(axis=1)) / 12 + 1e-12))
    spread = level.std(axis=1, keepdims=True)
    likeness = ((level - level.mean(axis=1, keepdims=True)) / np.maximum(spread, 1e-9)) @ _ROWS.T / 12
    silent = by_class.sum(axis=1) < _SILENT * np.median(by_class.sum(axis=1))
    # single beats of noise are like some chord by chance
    around = uniform_filter1d(np.where(silent, 0.0, likeness.max(axis=1)), _AROUND, mode="nearest")
    return _SHARPNESS * (_NOTHING - np.where(silent, 0.0, around))


def _best_path(entering: Floats, staying: Floats, leave: Floats) -> NDArray[np.int64]:
    """The most probable states; a state is entered with the evidence of one table, and stayed in with that of the
    other."""
    best, back = entering[0].copy(), np.zeros(entering.shape, dtype=np.int64)
    for t in range(1, len(entering)):
        other = int(np.argmax(best))
        jump, stay = best[other] - leave[t] + entering[t], best + staying[t]
        stays = stay >= jump
        back[t] = np.where(stays, np.arange(len(best)), other)
        best = np.where(stays, stay, jump)
    path = np.zeros(len(entering), dtype=np.int64)
    path[-1] = int(np.argmax(best))
    for t in range(len(entering) - 1, 0, -1):
        path[t - 1] = back[t, path[t]]
    return path


def _posterior(entering: Floats, staying: Floats, leave: Floats) -> Floats:
    """State probabilities at each beat: forward and backward passes with scaling; a move is as likely to any state."""
    top = np.maximum(entering, staying).max(axis=1, keepdims=True)
    enter, stay, move = np.exp(entering - top), np.exp(staying - top), np.exp(-leave)
    ahead, behind = np.zeros_like(enter), np.ones_like(enter)
    ahead[0] = enter[0] / enter[0].sum()
    for t in range(1, len(enter)):
        row = stay[t] * ahead[t - 1] + enter[t] * move[t] * ahead[t - 1].sum()
        ahead[t] = row / row.sum()
    for t in range(len(enter) - 2, -1, -1):
        row = stay[t + 1] * behind[t + 1] + move[t + 1] * (enter[t + 1] * behind[t + 1]).sum()
        behind[t] = row / row.sum()
    both = ahead * behind
    return np.asarray(both / both.sum(axis=1, keepdims=True))
