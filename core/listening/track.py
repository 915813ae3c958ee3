"""Analysing one track: peaks to draw, evidence and attacks to find beats with."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import soxr

from core import audio
from core.audio import Samples
from core.audio.peaks import PeakMaker, Peaks
from core.listening import attacks
from core.listening.attacks import Attacks
from core.listening.rates import LISTENING_RATE
from core.listening.spectrum import Evidence, evidence

#: Called with the share done, 0 to 1; may raise to stop the work.
Progress = Callable[[float], None]


def no_progress(_: float) -> None:
    """For callers that do not watch."""


@dataclass(frozen=True)
class AnalysedTrack:
    """What was found in one track.

    Attributes
    ----------
    seconds : float
        Its length.
    remarks : sequence of str
        Sentences for the engineer about what is wrong with the file.
    peaks : dict
        Waveform peaks by samples a bin (:mod:`core.audio.peaks`); empty where they are not drawn.
    role : str, optional
        What it is, where the engineer said so (:mod:`core.listening.roles`); else it is guessed.
    """

    name: str
    evidence: Evidence
    attacks: Attacks
    seconds: float = 0.0
    remarks: tuple[str, ...] = ()
    peaks: dict[int, Peaks] = field(default_factory=dict, repr=False)
    role: str | None = None


#: The peak to which soft recordings are raised, 15 dB below full scale: three quarters of the tracks that the networks
#: have learned from exceed it (training/recording.py). And by how much at most: 40 dB.
_USUAL_PEAK, _MOST_GAIN = 0.178, 100.0
#: Samples of a stretch whose level is looked at, 50 ms. Where loud ones are not louder than soft ones by this factor,
#: the track is noise.
_STRETCH, _LEAST_RANGE = LISTENING_RATE // 20, 1.25


def as_loud_as_usual(signal: Samples) -> Samples:
    """A recording that is softer than usual, louder. Levels are looked at as ``log(1 + 2000 * amplitude)``, in which a
    soft recording would have hardly an attack. Noise of one level, such as that of an unused input, stays as it is."""
    peak = float(np.abs(signal).max(initial=0.0))
    gain = min(_USUAL_PEAK / max(peak, 1e-9), _MOST_GAIN)
    if not gain > 1 or len(signal) < _STRETCH:
        return signal
    stretches = signal[: len(signal) // _STRETCH * _STRETCH].reshape(-1, _STRETCH)
    soft, loud = np.percentile(np.sqrt(np.mean(stretches**2, axis=1)), (25, 99))
    return signal * np.float32(gain) if loud > _LEAST_RANGE * soft else signal


def analyse_track(
    path: Path, name: str, info: audio.AudioInfo | None = None, progress: Progress = no_progress
) -> AnalysedTrack:
    """Read the file at ``path`` once, block by block, and analyse it. Raises :class:`core.audio.AudioError`.

    Only the mono signal at the listening rate (4.8 MB a minute) is held whole.
    """
    info = info or audio.inspect(path, name)
    health, peaks = audio.Health(), PeakMaker()
    resampler = soxr.ResampleStream(info.rate, LISTENING_RATE, 1, dtype="float32", quality="MQ")
    parts, done = [], 0
    for block in audio.blocks(path):
        block = health.check(block)
        peaks.add(block)
        parts.append(resampler.resample_chunk(audio.mono(block)))
        done += len(block)
        progress(0.5 * min(1.0, done / max(1, info.frames)))
    parts.append(resampler.resample_chunk(np.zeros(0, dtype=np.float32), last=True))
    signal = as_loud_as_usual(np.concatenate(parts))
    found = evidence(signal[i : i + audio.BLOCK] for i in range(0, len(signal), audio.BLOCK))
    progress(0.9)
    hits = attacks.find_attacks(signal, found) if health.peak >= audio.SILENCE else attacks.NONE
    progress(1.0)
    return AnalysedTrack(name, found, hits, info.seconds, tuple(health.remarks(info)), peaks.levels())
