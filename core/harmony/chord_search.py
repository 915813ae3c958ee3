"""Finding chords beat by beat: a hidden Markov model over the chords of :mod:`core.harmony.chord_model`."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.ndimage import uniform_filter1d

from core.harmony.chord_model import QUALITIES, features, log_likelihoods, prior, registers
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
#: The usual shares of the qualities count as much as this many beats of the song.
_PRIOR_BEATS = 20
#: A posterior is taken from evidence that counts so much: neighbouring beats hear the same notes. Of 0.12, 0.16 and
#: 0.2 the one that shows most wrong beats of the songs for learning as unsure, and under a fifth of the right ones.
_CERTAINTY = 0.16


@dataclass(frozen=True)
class ChordSpan:
    """A chord from one beat up to the next change: ``place`` of its beat, ``confidence`` 0 to 1."""

    place: int
    chord: Chord
    confidence: float


def find_chords(tones: Tones, edges: ArrayLike, downbeat: NDArray[np.bool_]) -> list[ChordSpan]:
    """Chords beat by beat, joined where they stay.

    ``edges``: seconds of the beats, and of the end of the last one; ``downbeat``: which beats open a bar, where chords
    change most readily. The most probable path of the model (Viterbi) is found twice, the second time with
    the qualities that the first path has often counted as likelier. Confidence is the posterior of a chord's root and
    third in the first search (forward-backward, Rabiner 1989), averaged over its beats.
    """
    if not len(downbeat):
        return []
    cents = tuning(tones)
    by_class = chroma(tones, edges, cents)
    begin, go_on = log_likelihoods(features(registers(tones, edges, cents), downbeat))
    nothing, silent = _nothing(by_class), _silent(by_class)
    leave = np.where(downbeat, _LEAVE_AT_BAR, _LEAVE) + np.log(begin.shape[1] - 1)
    entering, staying = _evidence(begin, go_on, nothing, silent, downbeat)
    sure = _posterior(_CERTAINTY * entering, _CERTAINTY * staying, leave)
    ratios = np.tile(_quality_ratios(_best_path(entering, staying, leave)), 12)
    path = _best_path(
        *_evidence(_reweighted(begin, ratios), _reweighted(go_on, ratios), nothing, silent, downbeat), leave
    )
    certain = (sure @ _SAME_THIRD)[np.arange(len(path)), path]
    starts = np.flatnonzero(np.concatenate([[True], np.diff(path) != 0]))
    ends = np.append(starts[1:], len(path))
    flat = find_key(by_class).flat
    return [
        ChordSpan(a, _chord(int(path[a]), flat), float(certain[a:b].mean()))
        for a, b in zip(starts.tolist(), ends.tolist(), strict=True)
    ]


def _same_third() -> Floats:
    """``(85, 85)``: 1 for states of one root and third."""
    kind = [(root, TONES[quality][1]) for root in range(12) for quality in QUALITIES] + [(12, 0)]
    return np.array([[float(a == b) for b in kind] for a in kind])


_SAME_THIRD = _same_third()


def _evidence(
    begin: Floats, go_on: Floats, nothing: Floats, silent: NDArray[np.bool_], downbeat: NDArray[np.bool_]
) -> tuple[Floats, Floats]:
    """What each state is worth where it is entered, and where it is stayed in; the last state is no chord."""
    entering, other = (
        _EVIDENCE * np.concatenate([likely, likely.max(axis=1, keepdims=True) + nothing[:, None]], axis=1)
        for likely in (np.where(silent[:, None], -np.log(x.shape[1]), x) for x in (begin, go_on))
    )
    return entering, np.where(downbeat[:, None], entering, other)


def _quality_ratios(path: NDArray[np.int64]) -> Floats:
    """How much likelier each quality is in this song than in those for learning, in nats: a song of plain triads has
    few sevenths, and the other way round."""
    counts = np.bincount(path[path < 12 * len(QUALITIES)] % len(QUALITIES), minlength=len(QUALITIES))
    usual = prior()
    return np.asarray(np.log((counts + _PRIOR_BEATS * usual) / (counts.sum() + _PRIOR_BEATS) / usual))


def _reweighted(likely: Floats, ratios: Floats) -> Floats:
    """Log-likelihoods with these log-ratios added, their sum over the chords 1 again."""
    moved = likely + ratios
    return np.asarray(moved - np.logaddexp.reduce(moved, axis=1, keepdims=True))


def _silent(by_class: Floats) -> NDArray[np.bool_]:
    total = by_class.sum(axis=1)
    return np.asarray(total < _SILENT * np.median(total))


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
    silent = _silent(by_class)
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
