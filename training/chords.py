"""Learns how chords sound: the weights of ``core/harmony``'s model, from accompaniments whose chords are known.

``python -m training.chords make --songs 450``: songs on Debian's mma (see :mod:`training.accompaniment`), one groove
family each, with a melody that is often beside the chord, played by General MIDI sound sets; their tones by beat are
kept in ``build/chords``. ``--evaluation``: other families and another sound set. ``python -m training.chords fit``:
fits the weights on those for learning, judges them on the others, and writes ``core/harmony/chord_weights.npz``.
"""

from __future__ import annotations

import argparse
import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soxr
from numpy.typing import NDArray
from scipy.optimize import minimize
from scipy.special import logsumexp

from core.harmony import chord_model
from core.harmony.chord_line import UNSURE
from core.harmony.chord_search import find_chords
from core.harmony.chords import Chord
from core.listening import tonal
from training import effects
from training.accompaniment import NAMES, ROMAN, families, felt_beats, played
from training.compose import Note
from training.recording import RATE, Instruments
from training.score import Score, ScoreNote, ScoreTrack, is_for_evaluation

FOLDER = Path("build/chords")
#: Our qualities as mma writes them.
_MMA = {"": "", "m": "m", "7": "7", "m7": "m7", "maj7": "M7", "dim": "dim", "sus4": "sus4"}
_MELODIES = (40, 56, 65, 66, 68, 71, 73, 52, 80, 22)


def _chord(rng: np.random.Generator, key: int, mode: str, rich: float) -> Chord:
    """A chord of the key; ``rich``: how often it has a seventh."""
    quality, step = ROMAN[mode][int(rng.integers(6))]
    draw = rng.random()
    if draw < rich:
        quality = {"": str(rng.choice(["7", "maj7"])), "m": "m7"}[quality]
    elif draw > 0.94:
        quality = str(rng.choice(["sus4", "dim", "7"]))
    return Chord((key + step) % 12, quality)


def song(seed: int, family: str) -> tuple[Score, list[Chord]] | None:
    """A song of about a minute on one groove family, and its chord at every felt beat; None where mma refuses it."""
    rng = np.random.default_rng((7, seed))
    grooves, text = families()[family]
    beats = felt_beats(text)
    if beats is None:
        return None
    counted, felt = beats
    plain = [g for g in grooves if not re.search(r"(?i)fill|intro|end|plus", g)] or grooves
    bpm = float(rng.uniform(65, 170) if felt == counted else rng.uniform(50, 95))
    key, mode, rich = int(rng.integers(12)), str(rng.choice(["major", "minor"])), float(rng.choice([0.0, 0.2, 0.9]))
    pace = rng.choice(["bar", "half", "two"], p=[0.55, 0.3, 0.15])
    bars = max(8, int(55 * bpm / 60 / felt))
    rows, chords = [f"Tempo {max(40, min(300, round(bpm * counted / felt)))}", f"RndSeed {seed % 100_000}"], []
    now = _chord(rng, key, mode, rich)
    for bar in range(1, bars + 1):
        if bar % 8 == 1:
            rows.append(f"Groove {rng.choice(plain)}")
        cells, at = ["/"] * counted, [now] * felt
        if pace != "two" or bar % 2:
            now = _chord(rng, key, mode, rich)
            at = [now] * felt
        cells[0] = NAMES[now.root or 0] + _MMA[now.quality]
        if pace == "half" and felt % 2 == 0 and rng.random() < 0.6:
            now = _chord(rng, key, mode, rich)
            cells[counted // 2] = NAMES[now.root or 0] + _MMA[now.quality]
            at[felt // 2 :] = [now] * (felt - felt // 2)
        rows.append(f"{bar} {' '.join(cells)}")
        chords += at
    found = played(rows, family, counted, felt)
    if found is None or not chords:
        return None
    if sum(len(t.notes) for t in found.tracks if t.program >= 0) < 2 * bars:
        return None  # drums alone
    found.bpm, found.bars = bpm, [felt] * bars
    scale = {(key + s) % 12 for s in ((0, 2, 4, 5, 7, 9, 11) if mode == "major" else (0, 2, 3, 5, 7, 8, 10))}
    found.tracks.append(_melody(rng, chords, sorted(scale)))
    return found, chords


def _melody(rng: np.random.Generator, chords: list[Chord], scale: list[int]) -> ScoreTrack:
    notes, at, low = [], 0.0, int(rng.choice([60, 67, 72]))
    while at < len(chords):
        length = float(rng.choice([0.25, 0.5, 0.5, 1, 1.5]))
        chord = chords[int(at)]
        inside = rng.random() < (0.8 if at % 1 == 0 else 0.5)
        pitch = low + (int(rng.choice(chord.classes if inside else scale)) - low) % 12
        if rng.random() < 0.75:
            notes.append(ScoreNote(at, 0.9 * length, pitch, int(rng.integers(60, 105))))
        at += length
    return ScoreTrack("melody", int(rng.choice(_MELODIES)), notes)


def sounds(rng: np.random.Generator, instruments: Instruments, score: Score) -> list[NDArray[np.float32]]:
    """The song's tracks at :data:`RATE`, at levels of a mix."""
    beat = 60 / score.bpm
    seconds = score.beats * beat + 0.5
    out = []
    for t in score.tracks:
        if t.name == "melody" and rng.random() < 0.25:
            continue
        late = float(rng.normal(0, 0.01))
        notes = []
        for n in t.notes:
            start = max(0.0, n.at * beat + late + float(rng.normal(0, 0.008)))
            if start < seconds - 0.1:
                notes.append(Note(start, start + max(0.03, n.length * beat), n.pitch, n.velocity))
        if not notes:
            continue
        x = instruments.play(rng, t.program, notes, seconds)
        if t.program in (29, 30):
            x = effects.amplifier(rng, x)
        out.append(np.asarray(x * 10 ** (rng.uniform(-9, 3) / 20), dtype=np.float32))
    return out


def make(count: int, first: int, evaluation: bool) -> None:
    """Tones by beat of ``count`` songs, those that are there left out."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    names = [f for f in families() if is_for_evaluation(f) == evaluation]
    instruments = Instruments(evaluation)
    for seed in range(first, first + count):
        path = FOLDER / f"{'eval' if evaluation else 'learn'}{seed:05d}.npz"
        if path.exists():
            continue
        rng = np.random.default_rng((11, seed))
        family = str(rng.choice(names))
        made = song(seed, family)
        if made is None:
            continue
        score, chords = made
        tracks = sounds(rng, instruments, score)
        if rng.random() < 0.5:
            length = max(len(t) for t in tracks)
            tracks = [np.sum([np.pad(t, (0, length - len(t))) for t in tracks], axis=0)]
        found = tonal.joined([tonal.tones([soxr.resample(t, RATE, tonal.RATE).astype(np.float32)]) for t in tracks])
        edges = np.arange(len(chords) + 1) * 60 / score.bpm
        np.savez_compressed(
            path,
            seconds=found.seconds, pitch=found.pitch.astype(np.float32), weight=found.weight.astype(np.float32),
            edges=edges, bars=score.bars,
            root=[c.root for c in chords], quality=[c.quality for c in chords], family=family,
        )  # fmt: skip
        print(path.name, family, len(chords), flush=True)


@dataclass(frozen=True, eq=False)
class Beats:
    """Beats of songs: features as every root sees them, whether a chord may begin there, and the chord's number."""

    seen: NDArray[np.float32]
    may_begin: NDArray[np.bool_]
    chord: NDArray[np.int64]


def beats_of(paths: list[Path]) -> Beats:
    """All beats of stored songs."""
    seen, begins, chords = [], [], []
    for path in paths:
        with np.load(path) as z:
            tones = tonal.Tones(z["seconds"], z["pitch"].astype(float), z["weight"].astype(float))
            quality = [chord_model.QUALITIES.index(q) for q in z["quality"].astype(str)]
            chord = z["root"].astype(int) * len(chord_model.QUALITIES) + np.array(quality)
            down = np.arange(len(chord)) % int(z["bars"][0]) == 0
            strength = chord_model.registers(tones, z["edges"], tonal.tuning(tones))
        seen.append(chord_model.on_every_root(chord_model.features(strength, down)).astype(np.float32))
        begins.append(down | np.concatenate([[True], np.diff(chord) != 0]))
        chords.append(chord)
    return Beats(np.concatenate(seen), np.concatenate(begins), np.concatenate(chords))


def _softmax(x: NDArray[np.float32], chord: NDArray[np.int64], strength: float = 1e-4) -> NDArray[np.float64]:
    """Weights and bias, ``(7, features + 1)``, of the model by which the chords are likeliest."""
    count, _, wide = x.shape
    kinds, rows = len(chord_model.QUALITIES), np.arange(count)

    def loss(flat: NDArray[np.float64]) -> tuple[float, NDArray[np.float64]]:
        w = flat.reshape(kinds, wide + 1)
        scores = (x @ w[:, :-1].T.astype(np.float32) + w[:, -1]).reshape(count, -1)
        log = scores - logsumexp(scores, axis=1, keepdims=True)
        p = np.exp(log)
        p[rows, chord] -= 1
        p = p.reshape(count, 12, kinds) / count
        slope = np.empty_like(w)
        slope[:, :-1] = np.tensordot(p, x, axes=([0, 1], [0, 1])) + 2 * strength * w[:, :-1]
        slope[:, -1] = p.sum(axis=(0, 1))
        return float(-log[rows, chord].mean() + strength * (w[:, :-1] ** 2).sum()), slope.ravel()

    found = minimize(loss, np.zeros(kinds * (wide + 1)), jac=True, method="L-BFGS-B", options={"maxiter": 150})
    return np.asarray(found.x.reshape(kinds, wide + 1))


#: Features of the four registers alone.
_PLAIN = 48


def fit() -> None:
    """Two models for each kind of beat, one that sees the four registers alone and one that sees the bass twice more:
    their mean. The first is surer of the chord's tones, the second of its root."""
    data = beats_of(sorted(FOLDER.glob("learn*.npz")))
    out = {}
    for name, chosen in (("begin", data.may_begin), ("go_on", ~data.may_begin)):
        x, chord = data.seen[chosen], data.chord[chosen]
        plain, all_ = _softmax(np.ascontiguousarray(x[:, :, :_PLAIN]), chord), _softmax(x, chord)
        mean = all_ / 2
        mean[:, :_PLAIN] += plain[:, :-1] / 2
        mean[:, -1] += plain[:, -1] / 2
        out[name], out[f"{name}_bias"] = mean[:, :-1].astype(np.float32), mean[:, -1].astype(np.float32)
    kinds = np.bincount(data.chord % len(chord_model.QUALITIES), minlength=len(chord_model.QUALITIES))
    np.savez(chord_model.WEIGHTS, prior=kinds / kinds.sum(), **out)
    for kind in ("learn", "eval"):
        judge(kind)


def judge(kind: str) -> None:
    """Share of beats with the right root, with the right third too, and with the very chord; of those with a wrong and
    a right third, the shares that are shown as unsure."""
    right, unsure = [], []
    for path in sorted(FOLDER.glob(f"{kind}*.npz")):
        with np.load(path) as z:
            tones = tonal.Tones(z["seconds"], z["pitch"].astype(float), z["weight"].astype(float))
            wanted = [Chord(int(r), str(q)) for r, q in zip(z["root"], z["quality"], strict=True)]
            down = np.arange(len(wanted)) % int(z["bars"][0]) == 0
            spans = find_chords(tones, z["edges"], down)
        at = np.searchsorted([s.place for s in spans], np.arange(len(wanted)), side="right") - 1
        for chord, k in zip(wanted, at, strict=True):
            found = spans[k].chord
            root = found.root == chord.root
            third = root and found.classes[1] == chord.classes[1]
            right.append((root, third, third and found.quality == chord.quality))
            unsure.append(spans[k].confidence < UNSURE)
    third = np.array(right)[:, 1]
    print(
        kind,
        len(right),
        np.mean(right, axis=0).round(3),
        [round(float(np.mean(np.array(unsure)[third == x])), 2) for x in (0, 1)],
    )


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    ask.add_argument("what", choices=["make", "fit"])
    ask.add_argument("--songs", type=int, default=400)
    ask.add_argument("--first", type=int, default=0)
    ask.add_argument("--evaluation", action="store_true")
    a = ask.parse_args()
    make(a.songs, a.first, a.evaluation) if a.what == "make" else fit()


if __name__ == "__main__":
    main()
