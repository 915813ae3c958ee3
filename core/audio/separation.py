"""The strokes and the tones of a finished mix, as two recordings whose sum is the mix.

Fitzgerald 2010, "Harmonic/percussive separation using median filtering": in the spectrogram strokes stand upright and
tones lie flat, so that a median along one axis leaves one and takes out the other; both share each cell by their powers
(Wiener). Window and filter lengths are those that Driedger, Müller and Disch 2014 use.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import soundfile as sf
from numpy.typing import NDArray
from scipy.ndimage import median_filter

from core.audio.files import Samples, blocks
from core.audio.windows import periodic_hann

Floats = NDArray[np.float32]

#: Seconds of a window, and of the medians along time; and the width of those along frequency, in Hz.
_WINDOW, _LASTS, _WIDTH = 0.046, 0.2, 500.0
#: Seconds that are separated at a time, and that are added on either side so that pieces join.
_PIECE, _AROUND = 20.0, 1.0


def write_parts(source: Path, strokes: Path, tones: Path, progress: Callable[[float], None] = lambda _: None) -> None:
    """Write the strokes and the tones of a file as 24-bit FLAC of its rate, channels and length. They add up to it but
    where one of them alone would go beyond full scale."""
    with sf.SoundFile(source) as file:
        rate, channels, total = file.samplerate, file.channels, file.frames
    with (
        sf.SoundFile(strokes, "w", rate, channels, "PCM_24", format="FLAC") as percussive,
        sf.SoundFile(tones, "w", rate, channels, "PCM_24", format="FLAC") as tonal,
    ):
        done = 0
        for piece, lead, count in _pieces(blocks(source), round(_PIECE * rate), round(_AROUND * rate)):
            found = separated(piece, rate)[lead : lead + count]
            whole = piece[lead : lead + count]
            percussive.write(np.clip(found, -1, 1))
            tonal.write(np.clip(whole - found, -1, 1))
            done += count
            progress(done / max(1, total))


def separated(x: Samples, rate: int) -> Floats:
    """The strokes of samples ``(frames, channels)``; what is left of them are the tones."""
    size = 1 << round(np.log2(_WINDOW * rate))
    hop = size // 4
    long, wide = (2 * max(1, round(v / 2)) + 1 for v in (_LASTS * rate / hop, _WIDTH * size / rate))
    window = periodic_hann(size)
    out = np.zeros((len(x) + 2 * size, x.shape[1]), dtype=np.float32)
    weight = np.zeros(len(out), dtype=np.float32)
    padded = np.pad(x, ((size, size), (0, 0)))
    starts = np.arange(0, len(padded) - size + 1, hop)
    for at in starts:
        weight[at : at + size] += window**2
    for channel in range(x.shape[1]):
        frames = np.stack([padded[at : at + size, channel] for at in starts]) * window
        spectrum = np.fft.rfft(frames, axis=1).astype(np.complex64)
        level = np.abs(spectrum)
        flat = median_filter(level, (long, 1), mode="nearest")
        upright = median_filter(level, (1, wide), mode="nearest")
        share = upright**2 / np.maximum(upright**2 + flat**2, 1e-20)
        made = np.fft.irfft(spectrum * share, size, axis=1).astype(np.float32) * window
        for at, frame in zip(starts, made, strict=True):
            out[at : at + size, channel] += frame
    out /= np.maximum(weight, 1e-6)[:, None]
    return out[size : size + len(x)]


def _pieces(of: Iterator[Samples], size: int, around: int) -> Iterator[tuple[Samples, int, int]]:
    """Consecutive pieces with what lies around them: the samples, how many of them lead up, how many are meant."""
    kept: Samples | None = None
    lead = 0
    for block in of:
        kept = block if kept is None else np.concatenate([kept, block])
        while len(kept) >= lead + size + around:
            yield kept[: lead + size + around], lead, size
            drop = lead + size - around
            kept, lead = kept[max(0, drop) :], around if drop > 0 else lead + size
    if kept is not None and len(kept) > lead:
        yield kept, lead, len(kept) - lead
