"""Bars cut out as a loop, exactly on their lines."""

from __future__ import annotations

from typing import Any

from numpy.typing import NDArray

from core import audio
from core.errors import InputError
from core.formats import wavloop
from studio.delivery.mixing import common_level, mixed
from studio.library.models import Session, Track


class NoLoop(InputError):
    """Bars that cannot be cut, in words for the engineer."""


def loop_of(session: Session, first: int, last: int, track: Track | None, level: float | None = None) -> bytes:
    """Bars ``first`` to ``last`` as a WAV file that loops: of one track, or of all that is heard. ``level``: of the
    whole mix, where it is known already. Raises :class:`NoLoop`."""
    tempo_map, rate = session.tempo_map, session.sample_rate
    low, high = tempo_map.bar_range
    if not low <= first <= last <= high:
        raise NoLoop(f"The map has bars {low} to {high}, and loops rise from a first to a last one.")
    lines = [round(float(t) * rate) for t in tempo_map.bar_seconds(range(first, last + 2))]
    start, end = lines[0], min(lines[-1], round(session.seconds * rate))
    if not 0 <= start < end:
        raise NoLoop("Those bars lie before the recording starts.")
    pre = min(start, wavloop.BLEND)
    cut: NDArray[Any]
    if track:
        cut = audio.read(track.playback, start - pre, end - start + pre)
    else:
        cut = (level or common_level(session)) * mixed(session, start - pre, end - start + pre)
    cut = wavloop.seamless(cut, pre)
    beats = round(float(tempo_map.beat_index_at(end / rate) - tempo_map.beat_index_at(start / rate)))
    meters = {tempo_map.meters.meter_at(b).felt for b in range(first, last + 1)}
    facts = wavloop.LoopFacts(
        last - first + 1,
        beats,
        " and ".join(sorted(meters)),
        60 * beats * rate / (end - start),
        [(line - start, f"Bar {first + i}") for i, line in enumerate(lines[:-1])],
    )
    return wavloop.write(cut, rate, facts, session.title)
