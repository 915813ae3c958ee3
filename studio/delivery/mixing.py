"""All tracks as they stand in the mix, as stereo samples."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from core import audio
from core.following.levels import factors
from studio.library.models import Session, Track


def mixed(session: Session, tracks: list[Track], start: int, frames: int) -> NDArray[Any]:
    """``(frames, 2)`` float32 of the tracks from sample ``start`` on, with their levels, mutes and solos; turned down
    as a whole where it would clip."""
    out = np.zeros((frames, 2), dtype=np.float32)
    for track, factor in zip(tracks, factors(tracks), strict=True):
        if factor:
            out += factor * audio.read(track.playback, start, frames)
    peak = float(np.abs(out).max(initial=0.0))
    return out / peak if peak > 1 else out
