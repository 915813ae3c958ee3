"""The running order as one recording: its sections as often, and at the pace, as arranged, cut on bar lines."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from core.following.running_order import Passage, joined, order_map, passages, whole_bars
from core.formats.wavloop import BLEND
from core.reshaping.stretch import time_stretched
from core.tempomap import TempoMap
from studio.analysis import features
from studio.delivery.mixing import common_level, mixed
from studio.jobs.registry import Failed, Report
from studio.library.models import Session

#: Seconds around a passage that is stretched, so that its ends have something to draw on.
_AROUND = 0.25


def order_of(session: Session) -> list[Passage]:
    """The passages of the session's order."""
    tempo_map, turns = session.tempo_map, []
    for turn in session.turns.select_related("section"):
        bars = whole_bars(tempo_map, turn.section.start, turn.section.end, session.sample_rate)
        turns.append((bars.first, bars.last, turn.times, turn.pace))
    return passages(tempo_map, turns)


def map_of_order(session: Session) -> TempoMap:
    """Raises :class:`core.errors.InputError` where nothing is in the order."""
    return order_map(session.tempo_map, order_of(session))


def write_order(session: Session, path: Path, report: Report) -> None:
    """The order as a floating point file at the session's rate, turned down as a whole where it would clip."""
    order, rate = order_of(session), session.sample_rate
    if not order:
        raise Failed("Nothing is in the running order yet: Follow, Order.")
    level = common_level(session, lambda x: report("Measuring the level", 0.3 * x))
    with sf.SoundFile(path, "w", rate, 2, "FLOAT", format="RF64") as out:
        done = 0
        for k, passage in enumerate(order):
            report("Writing the running order", 0.3 + 0.5 * k / len(order))
            end = round((passage.at + passage.seconds) * rate)
            samples = level * _sound(session, passage, end - done)
            if k + 1 < len(order):
                samples = joined(samples, level * _lead(session, order[k + 1], min(BLEND, len(samples))))
            out.write(samples)
            done = end


def _sound(session: Session, passage: Passage, frames: int) -> NDArray[np.float32]:
    """A passage at its pace, so many frames of it."""
    rate, tempo_map = session.sample_rate, session.tempo_map
    start, end = tempo_map.bar_seconds([passage.first, passage.last + 1]).tolist()
    if passage.pace == 1:
        return mixed(session, max(0, round(start * rate)), frames)
    begin = max(0.0, start - _AROUND)
    source = mixed(session, round(begin * rate), round((end + _AROUND - begin) * rate))
    at = round(begin * rate) / rate
    outs = [0.0, (end - start) / passage.pace]
    attacks = list(_attacks(session, at, end)) if session.tracks.exists() else []
    return time_stretched(source, rate, outs, [start - at, end - at], attacks, frames)


def _attacks(session: Session, begin: float, end: float) -> Iterator[float]:
    """Attacks that keep their shape, of all tracks, in seconds after ``begin``."""
    for track in session.tracks.all():
        if track.analysed and not track.muted:
            at = features.attacks(track).seconds
            yield from (at[(at > begin) & (at < end)] - begin).tolist()


def _lead(session: Session, passage: Passage, frames: int) -> NDArray[np.float32]:
    """What sounds right before a passage in the take."""
    start = max(0, round(float(session.tempo_map.bar_seconds(passage.first)) * session.sample_rate))
    count = min(frames, start)
    out = np.zeros((frames, 2), dtype=np.float32)
    out[frames - count :] = mixed(session, start - count, count)
    return out
