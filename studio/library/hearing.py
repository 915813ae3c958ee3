"""What listening to a track found out, kept on disk beside it."""

from functools import lru_cache
from pathlib import Path

import numpy as np

from core.beats import Player, Scene, look
from core.listening import audio, kept, performance
from core.listening.attacks import Attacks
from core.listening.peaks import LEVELS
from core.listening.track import listen
from studio.library.models import Session, Track


def hear(track: Track, progress) -> None:
    """Listen to a track and keep peaks, evidence and attacks; a copy at the session's rate where needed."""
    copy = track.folder / "playback.flac"
    if track.midi:
        rendered = track.folder / "rendered.flac"
        performance.render(track.source, track.name, rendered)
        heard = performance.listen_to_midi(track.source, track.name, rendered, lambda x: progress(0.1 + 0.8 * x))
        audio.write_at_rate(rendered, copy, track.session.rate)
    else:
        heard = listen(track.source, track.name, progress=lambda x: progress(0.8 * x))
        if track.rate != track.session.rate:
            audio.write_at_rate(track.source, copy, track.session.rate)
    shown = heard.peaks
    if track.rate != track.session.rate:
        # drawn at the session's rate, as it is played
        shown = listen(copy, track.name).peaks
    for level, values in shown.items():
        _write(track.folder / f"peaks-{level}.npy", values)
    kept.write(track.folder / HEARD, kept.Kept(heard.evidence, heard.attacks))
    track.remarks = [r for r in track.remarks if r not in heard.remarks] + heard.remarks
    track.heard = True
    track.save(update_fields=["remarks", "heard"])
    progress(1.0)


def _write(path: Path, values) -> None:
    partial = path.with_suffix(".partial")
    with partial.open("wb") as f:
        np.save(f, values)
    partial.replace(path)


#: What was heard of a track.
HEARD = "heard.npz"


def player(track: Track) -> Player:
    """What was heard of a track; heard again where an earlier version did."""
    found = kept.read(track.folder / HEARD)
    if found is None:
        hear(track, lambda _: None)
        found = kept.read(track.folder / HEARD)
        assert found is not None
    return Player(track.name, found.evidence, found.attacks)


def scene(session: Session) -> Scene:
    """What the tracker looks at, kept in memory between edits. Raises :class:`core.beats.NoBeats`."""
    heard = [t for t in session.tracks.all() if t.heard]
    weights = tuple(sorted(session.guides.items()))
    return _scene(tuple((t, _changed(t)) for t in heard), weights)


def _changed(track: Track) -> int:
    """When what was heard of a track last changed."""
    return (track.folder / HEARD).stat().st_mtime_ns


@lru_cache(maxsize=2)
def _scene(heard: tuple[tuple[Track, int], ...], guides: tuple[tuple[str, float], ...]) -> Scene:
    return look([player(track) for track, _ in heard], dict(guides))


@lru_cache(maxsize=256)
def _attacks(track: Track, _changed: int) -> Attacks:
    return player(track).attacks


def attacks(track: Track) -> Attacks:
    """A track's attacks; kept in memory, as every drag asks for them."""
    return _attacks(track, _changed(track))


@lru_cache(maxsize=64)
def _energy(track: Track, _changed: int) -> np.ndarray:
    return player(track).evidence.energy.astype(np.float64).sum(axis=1)


def energy(track: Track) -> np.ndarray:
    """A track's energy, 100 frames a second; kept in memory like its attacks."""
    return _energy(track, _changed(track))


def peaks(track: Track, level: int, first: int, count: int) -> bytes:
    """Peaks ``first`` to ``first + count`` at ``level`` samples a bin, as int16 pairs. Raises KeyError."""
    if level not in LEVELS:
        raise KeyError(level)
    return np.load(track.folder / f"peaks-{level}.npy", mmap_mode="r")[first : first + count].tobytes()
