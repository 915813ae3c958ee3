"""Makes, before several test processes want it, what all of them need: compiled loops and the demo.

Test processes that write numba's cache of one function at the same time can leave one that ends every process that
loads it. ``python -m tests.warm_up`` is enough for the core; with ``demo`` it makes the demo sessions as well, which
compiles on its way what an analysis needs.
"""

import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import librosa
import numpy as np
import soundfile as sf

from core.analysis import Source, analyse
from tests.shared import demo_studio

RATE = 22_050


def a_take() -> np.ndarray:
    rng = np.random.default_rng(1)
    x = np.zeros(RATE * 12, dtype=np.float32)
    for at in range(RATE, len(x) - 4000, RATE // 2):
        x[at : at + 3000] += rng.standard_normal(3000).astype(np.float32) * np.exp(-np.arange(3000) / 300)
    return x * np.float32(0.2)


def use_reference(x: np.ndarray) -> None:
    """All of librosa that tests compare with. None of it is used by the product, so both can be compiled at once."""
    strength = librosa.onset.onset_strength(y=x, sr=RATE)
    librosa.onset.onset_detect(onset_envelope=strength, sr=RATE, backtrack=False)
    librosa.effects.percussive(x[: 2 * RATE], n_fft=1024)
    bands = librosa.feature.melspectrogram(y=x[: 2 * RATE], sr=RATE)
    librosa.onset.onset_strength(S=librosa.power_to_db(bands, ref=np.max), sr=RATE, lag=2, max_size=3)
    librosa.sequence.dtw(
        C=np.random.default_rng(1).random((20, 30)), weights_mul=np.ones(3), subseq=True, backtrack=True
    )


def use_core(x: np.ndarray) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "take.wav"
        sf.write(path, x, RATE)
        analyse([Source(path, path.name)])


def main(demo: bool) -> None:
    x = a_take()
    with ThreadPoolExecutor() as pool:  # the demo is made by a process of its own
        made = pool.submit(demo_studio) if demo else None
        use_reference(x)
        if made:
            made.result()
    use_core(x)


if __name__ == "__main__":
    main("demo" in sys.argv[1:])
