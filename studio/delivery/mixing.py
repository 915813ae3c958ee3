"""All tracks as they stand in the mix, as stereo samples."""

import numpy as np

from core.listening import audio
from studio.library.models import Session, Track


def mixed(session: Session, tracks: list[Track], start: int, frames: int) -> np.ndarray:
    """``(frames, 2)`` float32 of the tracks from sample ``start`` on, with their levels, mutes and solos; turned down
    as a whole where it would clip."""
    solo = any(t.solo for t in tracks)
    out = np.zeros((frames, 2), dtype=np.float32)
    for t in tracks:
        if not t.muted and (t.solo or not solo):
            out += 10 ** (t.gain / 20) * audio.read(t.playback, start, frames)
    peak = float(np.abs(out).max(initial=0.0))
    return out / peak if peak > 1 else out
