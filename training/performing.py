"""From a score to a performance: tempo that lives, players who lean and stray, holds, rests, count-ins, pickups.

Models: phrases broaden towards their ends (Todd 1985; Friberg, Bresin and Sundberg 2006, "Overview of the KTH rule
system"); the deviations of one player are correlated over long ranges, like 1/f noise (Hennig 2014; Datseris et al.
2019), and players who play together share a part of them.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from training.compose import Note, Performance
from training.score import Score, ScoreNote, ScoreTrack, excerpt, repeated

Floats = NDArray[np.float64]


def pink(rng: np.random.Generator, count: int) -> Floats:
    """Noise whose power falls as 1/f, mean 0, spread 1."""
    size = 1 << int(np.ceil(np.log2(max(8, count))))
    shape = np.fft.rfft(rng.standard_normal(size)) / np.sqrt(np.maximum(1, np.arange(size // 2 + 1)))
    out = np.fft.irfft(shape, size)[:count]
    return (out - out.mean()) / (out.std() + 1e-12)


def tempo_curve(rng: np.random.Generator, score: Score, free: float, machine: bool) -> Floats:
    """Seconds of each felt beat, one more than the score has, the first at 0."""
    n = score.beats
    bpm = score.bpm * float(np.exp(0.05 * rng.standard_normal()))
    if machine:
        return np.arange(n + 1) * 60 / bpm
    downs = np.concatenate([[0], np.cumsum(score.bars)])
    k = np.arange(n)
    walk = rng.uniform(0.004, 0.016) * (1 + 2 * free) * pink(rng, n)
    # each beat of the bar has its own length, the same all through (a waltz hurries its second)
    walk += rng.uniform(0, 0.012) * rng.standard_normal(max(score.bars))[_in_bar(score)]
    phrase = int(rng.choice([4, 8]))
    if rng.random() < free:
        depth = rng.uniform(0.05, 0.35) * free
        place = np.interp(k, downs, np.arange(len(downs)))
        arch = (place % phrase) / phrase
        walk += 0.3 * depth * np.sin(np.pi * arch) - depth * np.clip((arch - 1 + 0.6 / phrase) * phrase / 0.6, 0, 1)
    if rng.random() < 0.3:  # a section is quicker, from one bar to the next
        change = downs[int(rng.integers(1, len(downs)))]
        walk[change:] += rng.uniform(-0.06, 0.08)
    if rng.random() < 0.15:  # a whole take that hurries or drags
        walk += rng.uniform(-0.08, 0.12) * k / n
    if rng.random() < 0.3:
        last = min(n, int(rng.integers(2, 9)))
        walk[n - last :] -= rng.uniform(0.1, 0.5) * np.linspace(0, 1, last)
    gaps = 60 / bpm * np.exp(-walk)
    if rng.random() < 0.35 * free:  # fermatas, at ends of bars
        for _ in range(int(rng.integers(1, 4))):
            at = downs[int(rng.integers(1, len(downs)))] - 1
            gaps[at] *= rng.uniform(1.5, 3.2)
    return np.concatenate([[0.0], np.cumsum(gaps)])


def _in_bar(score: Score) -> NDArray[np.int64]:
    return np.concatenate([np.arange(b) for b in score.bars])


def perform(score: Score, seed: int, seconds: float = 45.0) -> Performance:
    """Some ``seconds`` of the score as they are really played; the same for ever from one seed."""
    rng = np.random.default_rng(7_000_000 + seed)
    bar = 60 / score.bpm * max(score.bars)
    wanted = max(8, round(seconds / bar))
    if len(score.bars) < wanted:
        score = repeated(score, -(-wanted // len(score.bars)))
    first = 0
    if len(score.bars) > wanted + 2 and rng.random() < 0.6:
        first = int(rng.integers(len(score.bars) - wanted))
    score = excerpt(score, first, first + wanted) if first or len(score.bars) > wanted else score
    drums = any(t.program < 0 for t in score.tracks)
    machine = rng.random() < (0.3 if drums else 0.04)
    free = float(np.clip(score.free * rng.uniform(0.3, 1.6), 0, 1))
    times = tempo_curve(rng, score, free, machine)
    before = 0
    tracks = [ScoreTrack(t.name, t.program, list(t.notes)) for t in score.tracks]
    if drums and rng.random() < 0.12:  # sticks count in
        before = int(rng.choice([score.bars[0], 2 * score.bars[0], 2]))
        sticks = ScoreTrack("sticks", -1, [ScoreNote(k - before, 0.2, 37, 95) for k in range(before)])
        tracks.append(sticks)
    gap = times[1] - times[0]
    times = np.concatenate(
        [times[0] - gap * np.arange(before + 4, 0, -1), times, [times[-1] + gap, times[-1] + 2 * gap]]
    )
    index = np.arange(len(times)) - before - 4
    start = rng.uniform(0.15, 2.0)
    earliest = min((n.at for t in tracks for n in t.notes), default=0.0)
    times = times + start - min(0.0, float(np.interp(earliest, index, times)))
    if earliest >= 0:
        times = times - times[before + 4] + start
    _rest(rng, score, tracks)
    shared = pink(rng, len(times))
    notes: list[tuple[str, int, list[Note]]] = []
    alone = len(tracks) == 1
    touch = rng.uniform(0.5, 1.5)
    for t in tracks:
        lean = 0.0 if alone or machine else float(np.clip(rng.normal(0, 0.008), -0.02, 0.025))
        stray = 0.0 if machine else rng.uniform(0.003, 0.012 if t.program < 0 else 0.018)
        own = 0.6 * shared + 0.8 * pink(rng, len(times))
        jitter = 0.4 * stray
        spread = 0.0 if t.program < 0 or machine else rng.uniform(0, 0.02)
        legato = rng.uniform(0.55, 1.1)
        out, when = [], {}
        chord: dict[float, int] = {}
        for n in t.notes:
            if n.at < index[0] or n.at > index[-1]:
                continue
            if n.at not in when:
                drift = stray * float(np.interp(n.at, index, own))
                when[n.at] = lean + drift + jitter * float(np.clip(rng.standard_normal(), -2.5, 2.5))
            order = chord.get(n.at, 0)
            chord[n.at] = order + 1
            off = when[n.at] + spread * order / 3
            a = float(np.interp(n.at, index, times)) + off
            b = float(np.interp(n.at + legato * n.length, index, times)) + off
            loud = n.velocity + (6 * touch if abs(n.at - round(n.at)) < 0.02 else 0) + rng.normal(0, 4 * touch)
            out.append(Note(max(0.0, a), max(a + 0.05, b), n.pitch, int(np.clip(loud, 8, 127))))
        if out:
            notes.append((t.name, t.program, out))
    beats = times[before + 4 : before + 4 + score.beats]
    opens = np.isin(np.arange(score.beats), np.concatenate([[0], np.cumsum(score.bars)]))
    sounding = [n for _, _, own_notes in notes for n in own_notes]
    lead, over = min(n.start for n in sounding), max(n.end for n in sounding)
    return Performance(notes, beats, opens, float(lead), float(over))


def _rest(rng: np.random.Generator, score: Score, tracks: list[ScoreTrack]) -> None:
    """Players who sit out, and moments in which everybody does."""
    downs = np.concatenate([[0], np.cumsum(score.bars)])

    def hush(track: ScoreTrack, a: float, b: float) -> None:
        track.notes = [n for n in track.notes if not a - 0.01 <= n.at < b - 0.01] or track.notes[:1]

    if len(tracks) > 2:
        for t in tracks:
            if rng.random() < 0.15:
                bar = int(rng.integers(len(score.bars)))
                hush(t, downs[bar], downs[min(len(downs) - 1, bar + int(rng.integers(2, 9)))])
    if rng.random() < 0.12:
        for bar in rng.integers(1, len(score.bars), int(rng.integers(1, 3))).tolist():
            a = downs[bar] + float(rng.choice([0.5, 1, 2]))
            for t in tracks:
                hush(t, a, downs[bar] + score.bars[bar])
