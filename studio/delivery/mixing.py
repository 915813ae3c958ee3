"""All that is heard as it stands in the mix, as stereo samples."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from core import audio
from core.following.levels import factors, sides
from core.listening.track import Progress, no_progress
from studio.library.models import Session, Track
from studio.parts import sound
from studio.parts.models import Part

#: Samples that are mixed at a time to find the level.
_PIECE = 1 << 20


def mixed(session: Session, start: int, frames: int) -> NDArray[Any]:
    """``(frames, 2)`` float32 of all tracks and parts from sample ``start`` on, with their levels, mutes and solos."""
    tracks = [t for t in session.tracks.all() if t.analysed]
    parts: list[Part] = (
        list(session.parts.filter(gone=False).select_related("step", "step__tied_on")) if session.step else []
    )
    out = np.zeros((frames, 2), dtype=np.float32)
    lanes: list[Track | Part] = [*tracks, *parts]
    for lane, factor in zip(lanes, factors(lanes), strict=True):
        if not factor:
            continue
        if isinstance(lane, Track):
            samples = audio.read(lane.playback, start, frames)
        else:
            samples = sound.block(lane, session.map_step, session.sample_rate, start, frames)
        out += np.asarray(sides(lane.pan), dtype=np.float32) * (factor * samples)
    return out


def common_level(session: Session, progress: Progress = no_progress) -> float:
    """By how much the whole mix is turned down so that it clips nowhere: the same for every cut of it. ``progress`` is
    called with the share done, and may raise to end it."""
    peak = 1.0
    for at in range(0, session.frames, _PIECE):
        progress(at / session.frames)
        peak = max(peak, float(np.abs(mixed(session, at, _PIECE)).max()))
    return 1 / peak
