"""Compiles, in one process, what tests need compiled: test processes that write numba's cache of one function at the
same time can leave one that ends every process that loads it."""

import tempfile
from pathlib import Path

import librosa
import numpy as np
import soundfile as sf

from core.analysis import Source, analyse

RATE = 22_050


def main() -> None:
    rng = np.random.default_rng(1)
    x = np.zeros(RATE * 12, dtype=np.float32)
    for at in range(RATE, len(x) - 4000, RATE // 2):
        x[at : at + 3000] += rng.standard_normal(3000).astype(np.float32) * np.exp(-np.arange(3000) / 300)
    x *= np.float32(0.2)
    strength = librosa.onset.onset_strength(y=x, sr=RATE)
    librosa.onset.onset_detect(onset_envelope=strength, sr=RATE, backtrack=False)
    librosa.effects.percussive(x[: 2 * RATE], n_fft=1024)
    bands = librosa.feature.melspectrogram(y=x[: 2 * RATE], sr=RATE)
    librosa.onset.onset_strength(S=librosa.power_to_db(bands, ref=np.max), sr=RATE, lag=2, max_size=3)
    weights = np.array([1.0, 1.0, 1.0])
    librosa.sequence.dtw(C=rng.random((20, 30)), weights_mul=weights, subseq=True, backtrack=True)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "take.wav"
        sf.write(path, x, RATE)
        analyse([Source(path, path.name)])


if __name__ == "__main__":
    main()
