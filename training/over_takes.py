"""What is done with every take of a folder, and how right beats are."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import mir_eval
import numpy as np
from numpy.typing import NDArray

from training.takes import ONE_PIECE, Take

Floats = NDArray[np.float64]


def f_measure(take: Take, seconds: Floats, window: float = 0.07) -> float:
    inside = (seconds > take.beats[0] - 0.07) & (seconds < take.beats[-1] + 0.07)
    return float(mir_eval.beat.f_measure(take.beats, seconds[inside], window)) if inside.any() else 0.0


def of_all(folder: Path, work: Callable[[Path], list[Any]], pattern: str = ONE_PIECE) -> list[Any]:
    """What ``work`` makes of every take in the folder whose name is like the pattern."""
    with ProcessPoolExecutor(2) as pool:
        return [one for some in pool.map(work, sorted(folder.glob(f"{pattern}.npz"))) for one in some]
