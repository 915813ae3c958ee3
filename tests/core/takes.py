"""Small made-up takes, one for each thing the tracker has to cope with. Rendered with the built-in instruments."""

from dataclasses import dataclass
from functools import lru_cache, wraps

import numpy as np

from core.demo.stage import Performer, Stroke, played
from core.instruments import voices
from core.instruments.render import render_notes
from core.listening import attacks, spectrum
from core.listening.rates import LISTENING_RATE
from core.listening.track import AnalysedTrack
from core.tempomap import Meters, TempoMap
from tests.shared import key_of, pickled_once

RATE = LISTENING_RATE  # rendered at the rate at which the core listens
CHORDS = (45, 41, 48, 43)


@dataclass
class Made:
    tracks: list[AnalysedTrack]
    truth: TempoMap
    first: float

    @property
    def beats(self):
        b = self.truth.beats()
        return b.seconds[b.seconds >= self.first - 1e-6]

    @property
    def downbeats(self):
        b = self.truth.beats()
        return b.seconds[(b.seconds >= self.first - 1e-6) & (b.beat == 1)]


def tempo_map(bpm, meters, first=0, start=1.0, held=()):
    """Felt beats at ``bpm`` (one a beat); ``held``: (beat, factor) for fermatas."""
    gaps = 60 / np.asarray(bpm, float)
    for beat, factor in held:
        gaps[beat - first] *= factor
    return TempoMap.from_beats(start + np.concatenate([[0], np.cumsum(gaps[:-1])]), first, meters)


def drift(count, bpm, percent=4.0, seed=0):
    """A band that speeds up and comes back by some percent, with a little wander."""
    rng = np.random.default_rng(seed)
    wander = np.cumsum(rng.normal(0, 0.15, count))
    wander -= np.linspace(wander[0], wander[-1], count)
    return bpm * (1 + percent / 100 * np.sin(np.pi * np.arange(count) / count)) + wander


@lru_cache(maxsize=1)  # a minute of it costs more than a track's analysis
def _noise(frames):
    return 1e-4 * np.random.default_rng(1).standard_normal(frames).astype(np.float32)


def room_noise(frames):
    """The same noise for every track, 80 dB below full scale; up to six minutes."""
    return _noise(360 * RATE)[:frames]


def to_track(name, samples):
    x = samples.astype(np.float32)
    x = x / max(1e-9, np.abs(x).max()) * 0.6
    x += room_noise(len(x))
    found = spectrum.evidence([x])
    return AnalysedTrack(name, found, attacks.find_attacks(x, found))


def record(truth, parts, first=None, tail=1.5, extra=None, jitter=0.005, mix=False, seed=12):
    """``parts``: name -> (voice, strokes, lean). ``extra``: name -> noise samples added to every track's end. A take
    without ``extra`` is kept for later runs."""
    first = float(truth.bar_seconds(1)) if first is None else first

    def make():
        return [to_track(n, x) for n, x in _samples(truth, parts, tail, extra or {}, jitter, mix, seed).items()]

    if extra:
        return Made(make(), truth, first)
    return Made(pickled_once(key_of(truth, parts, tail, jitter, mix, seed), make, "takes"), truth, first)


def _kept(make):
    """What ``make`` answers is kept for later runs."""

    @wraps(make)
    def kept(*asked):
        return pickled_once(key_of(make.__name__, *asked), lambda: make(*asked), "takes")

    return kept


@_kept
def record_from(start, truth, parts):
    """The tracks of a take that is cut ``start`` seconds in; its ``parts`` as of :func:`record`."""
    samples = _samples(truth, parts, tail=1.5, extra={}, jitter=0.005, mix=False, seed=12)
    return [to_track(n, x[round(start * RATE) :]) for n, x in samples.items()]


@_kept
def record_after(front, truth, parts, back=()):
    """The tracks of a take with ``front`` before it and ``back`` after it: samples, loudest on the first track."""
    tracks = []
    for k, (name, x) in enumerate(_samples(truth, parts, tail=1.5, extra={}, jitter=0.005, mix=False, seed=12).items()):
        far = 1.0 if k == 0 else 0.1
        tracks.append(to_track(name, np.concatenate([far * np.asarray(front), x, far * np.asarray(back)])))
    return tracks


@_kept
def record_one_after_the_other(pause, *pieces):
    """The tracks of a recording of several pieces, each ``(truth, parts)``, with ``pause`` between them (samples,
    loudest on the first track); and the seconds at which each piece starts."""
    played = [_samples(truth, parts, tail=1.5, extra={}, jitter=0.005, mix=False, seed=12) for truth, parts in pieces]
    lengths = [max(map(len, p.values())) for p in played]
    names = list(dict.fromkeys(name for p in played for name in p))
    tracks = []
    for k, name in enumerate(names):
        between = (1.0 if k == 0 else 0.1) * np.asarray(pause)
        rows = [p.get(name, np.zeros(n)) for p, n in zip(played, lengths, strict=True)]
        tracks.append(to_track(name, np.concatenate([x for row in rows for x in (row, between)][:-1])))
    starts = np.cumsum([0, *(n + len(pause) for n in lengths[:-1])]) / RATE
    return tracks, starts.tolist()


def _samples(truth, parts, tail, extra, jitter, mix, seed):
    """Name -> samples, at :data:`RATE`."""
    rng = np.random.default_rng(seed)
    frames = round((float(truth.seconds[-1]) + tail) * RATE)
    tracks = {}
    for name, (voice, strokes, lean) in parts.items():
        notes = played(Performer(name, voice, tuple(strokes), lean, jitter), truth, rng)
        tracks[name] = render_notes(notes, voice, RATE, frames, rng)
    for name, samples in extra.items():
        tracks[name] = samples(frames, rng)
    return {"mix": sum(x / max(1e-9, np.abs(x).max()) for x in tracks.values())} if mix else tracks


def groove(truth, bars, skip=(), swing=0.0, ghosts=False, half_time=False, fills=()):
    """Kick, snare, hats in the take's own meters; ``skip``: bars without drums; ``fills``: bars the kick leaves."""
    rng = np.random.default_rng(3)
    kick, snare, hats = [], [], []
    for bar in range(1, bars + 1):
        if bar in skip:
            continue
        meter = truth.meters.meter_at(bar)
        q = float(truth.meters.bar_quarters(bar))
        offsets = meter.beat_offsets
        for k in range(meter.beats):
            at, length = q + offsets[k], offsets[k + 1] - offsets[k]
            back = (
                k == meter.beats // 2 if half_time else (k % 2 == 1 if meter.beats % 2 == 0 else k == meter.beats - 1)
            )
            if bar in fills:
                snare += [Stroke(at + length * s / 4, 62, level=0.5 + 0.1 * s) for s in range(4)]
            elif back:
                snare.append(Stroke(at, 62, level=0.9))
            elif k == 0 or not half_time:
                kick.append(Stroke(at, 45, level=0.95 if k == 0 else 0.7))
            if ghosts and rng.random() < 0.5:
                snare.append(Stroke(at + 0.75 * length, 62, level=0.18))
            ternary = abs(length - 1.5) < 1e-6
            shares = (0, 1 / 3, 2 / 3) if ternary else (0, 2 / 3) if swing else (0, 0.5)
            hats += [Stroke(at + s * length, 90, level=0.5 if s == 0 else 0.3) for s in shares]
    return {
        "kick": (voices.thump, kick, 0.0),
        "snare": (voices.frame_drum, snare, 0.002),
        "hats": (voices.hiss, hats, -0.002),
    }


def bass_line(truth, bars, from_bar=1):
    out = []
    for bar in range(from_bar, bars + 1):
        meter = truth.meters.meter_at(bar)
        q, root = float(truth.meters.bar_quarters(bar)), CHORDS[(bar - 1) % 4] - 12
        out.append(Stroke(q, root, 0.9 * meter.beat_offsets[1], 0.9))
        out += [
            Stroke(q + float(o), root + 7 * (k % 2 == 0), 0.6, 0.55)
            for k, o in enumerate(meter.beat_offsets[1:-1], 1)
            if k % 2 == 0
        ]
    return {"bass": (voices.bass, out, 0.007)}


def chords(truth, bars, voice=voices.squeezebox, lean=0.004, level=0.6):
    out = []
    for bar in range(1, bars + 1):
        q, length = float(truth.meters.bar_quarters(bar)), truth.meters.meter_at(bar).quarters
        out += [Stroke(q, CHORDS[(bar - 1) % 4] + 12 + step, length * 0.95, level) for step in (0, 4, 7)]
    return {"chords": (voice, out, lean)}


def melody(truth, bars, voice, lean=0.0, halves=True):
    rng = np.random.default_rng(9)
    out, scale = [], (60, 62, 64, 67, 69, 72, 71, 65)
    for bar in range(1, bars + 1):
        meter = truth.meters.meter_at(bar)
        q = float(truth.meters.bar_quarters(bar))
        for k in range(meter.beats):
            a, b = meter.beat_offsets[k], meter.beat_offsets[k + 1]
            out.append(Stroke(q + a, scale[rng.integers(8)], 0.9 * (b - a), 0.9 if k == 0 else 0.65))
            if halves and rng.random() < 0.35:
                out.append(Stroke(q + (a + b) / 2, scale[rng.integers(8)], 0.45 * (b - a), 0.5))
    return {"melody": (voice, out, lean)}


def length_in_beats(meters: Meters, bars: int) -> int:
    return round(float(meters.beat_of_quarters(meters.bar_quarters(bars + 1))))
