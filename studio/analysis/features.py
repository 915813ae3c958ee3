"""Analysed tracks on disk beside their sources, and what is kept in memory of them between edits."""

from __future__ import annotations

from collections.abc import Hashable, Iterable
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core import audio
from core.analysis import Source
from core.audio.peaks import LEVELS
from core.listening import stored
from core.listening.attacks import NONE, Attacks
from core.listening.guides import GuideRank, rank_guides
from core.listening.roles import sound_of
from core.listening.track import AnalysedTrack, analyse_track
from core.tracking import AnalysisContext, NoBeats, build_context
from studio.caches import remembered
from studio.jobs.queue import start
from studio.library.models import Session, Track
from studio.library.uploads import LISTEN

#: The file that holds a track's evidence and attacks, in the track's folder.
FEATURES = "heard.npz"


class NotAnalysed(NoBeats):
    """Tracks whose analysis is missing or of an older version, in words for the engineer."""


def source_of(track: Track) -> Source:
    """The track as the core's pipeline takes it; of one that starts later, its copy from time zero on."""
    if track.offset:
        return Source(_from_time_zero(track), track.name)
    rendered = track.folder / "rendered.flac" if track.midi else None
    return Source(track.source, track.name, rendered)


def _from_time_zero(track: Track) -> Path:
    copy, rate = track.playback_copy, track.session.sample_rate
    if not copy.exists():
        audio.write_at_rate(track.source, copy, rate, round(track.offset * rate))
    return copy


class SessionStore:
    """Keeps the analysed tracks of a session (:class:`core.analysis.TrackStore`): features, peaks to draw, and copies
    at the session's rate to play."""

    def __init__(self, tracks: list[Track]) -> None:
        self.tracks = {t.playback_copy if t.offset else t.source: t for t in tracks}

    def read(self, source: Source) -> AnalysedTrack | None:
        track = self.tracks[source.path]
        return analysed(track) if track.analysed else None

    def write(self, source: Source, analysed: AnalysedTrack) -> None:
        track = self.tracks[source.path]
        peaks = analysed.peaks
        if not track.offset and (track.rate != track.session.sample_rate or track.midi):
            copy = track.playback_copy
            audio.write_at_rate(source.rendered or source.path, copy, track.session.sample_rate)
            if track.rate != track.session.sample_rate:
                # drawn at the session's rate, as it is played
                peaks = analyse_track(copy, track.name).peaks
        for level, values in peaks.items():
            _write(track.folder / f"peaks-{level}.npy", values)
        stored.write(track.folder / FEATURES, analysed)
        track.remarks = [r for r in track.remarks if r not in analysed.remarks] + list(analysed.remarks)
        track.analysed = True
        track.features_version = stored.VERSION
        track.sound = asdict(sound_of(analysed.evidence))
        track.guess_role()
        track.save(update_fields=["remarks", "analysed", "features_version", "sound", "role"])


def _write(path: Path, values: NDArray[Any]) -> None:
    partial = path.with_suffix(".partial")
    with partial.open("wb") as f:
        np.save(f, values)
    partial.replace(path)


def outdated(session: Session | None = None) -> list[Track]:
    """Tracks that were analysed by another version of the analysis."""
    tracks = Track.objects.filter(analysed=True).exclude(features_version=stored.VERSION)
    return list(tracks.filter(session=session) if session else tracks)


def analysed(track: Track) -> AnalysedTrack | None:
    """What is on disk; None where it is missing or of another version."""
    return _with_role(track, stored.read(track.folder / FEATURES, track.name))


def _with_role(track: Track, found: AnalysedTrack | None) -> AnalysedTrack | None:
    """With the role that the engineer gave the track."""
    return replace(found, role=track.role) if found and track.role_given else found


def analysed_tracks(session: Session, tracks: Iterable[Track] | None = None) -> list[AnalysedTrack]:
    """All tracks of a session that are analysed, or those of ``tracks``, which were read before.

    Raises :class:`NotAnalysed` where the analysis of a track is old or damaged; a job then analyses it again.
    """
    out = []
    for track in _tracks(session) if tracks is None else tracks:
        found = analysed(track)
        if found is None:
            Track.objects.filter(pk=track.pk).update(features_version=0)
            start(session, LISTEN, track)
            raise NotAnalysed("The tracks are being analysed again, by a newer version. Try again in a moment.")
        out.append(found)
    return out


# ---- kept in memory: every drag asks for the same attacks, every edit for the same context


def _changed(track: Track) -> int:
    """When the features of a track last changed."""
    try:
        return (track.folder / FEATURES).stat().st_mtime_ns
    except FileNotFoundError:
        return 0


def _tracks(session: Session) -> tuple[Track, ...]:
    """Those that are analysed, read once: the analysis of another may end while a page is made."""
    return tuple(session.tracks.filter(analysed=True))


def content_key(session: Session) -> tuple[tuple[int, int], ...]:
    """Which analyses the session's tracks have: a key for whatever is calculated from them."""
    return tuple((t.pk, _changed(t)) for t in _tracks(session))


def context_key(session: Session, tracks: Iterable[Track] | None = None) -> Hashable:
    """A key for whatever is calculated from the session's tracks together: their analyses, and what the engineer says
    that weighs them as guides: weights, the names they go by, what the tracks are. ``tracks``: where they were read
    before."""
    said = ((t.pk, _changed(t), t.name, t.role, t.role_given) for t in (_tracks(session) if tracks is None else tracks))
    return tuple(sorted(session.guides.items())), tuple(said)


def context(session: Session) -> AnalysisContext:
    """The analysis context of a session.

    Raises :class:`core.tracking.NoBeats` or its subclass :class:`NotAnalysed`.
    """
    tracks = _tracks(session)
    return _context(session, tracks, context_key(session, tracks))


@remembered(2)  # each takes some 100 MB for eight tracks of four minutes
def _context(session: Session, tracks: tuple[Track, ...], _key: Hashable) -> AnalysisContext:
    return build_context(analysed_tracks(session, tracks), session.guides)


def guide_ranks(session: Session) -> dict[int, GuideRank]:
    """How well each analysed track marks the beat and what it weighs as things stand, by the track's key; none where
    an analysis is out of date."""
    tracks = _tracks(session)
    try:
        return _guide_ranks(session, tracks, context_key(session, tracks))
    except NotAnalysed:
        return {}


@remembered(32)  # some kB each
def _guide_ranks(session: Session, tracks: tuple[Track, ...], _key: Hashable) -> dict[int, GuideRank]:
    ranks = rank_guides(analysed_tracks(session, tracks), session.guides)
    return {track.pk: rank for track, rank in zip(tracks, ranks, strict=True)}


def attacks(track: Track) -> Attacks:
    """A track's attacks; none where its analysis is out of date."""
    return _attacks(track, _changed(track))


@remembered(256)  # some 50 kB each
def _attacks(track: Track, _key: int) -> Attacks:
    found = analysed(track)
    return found.attacks if found else NONE


def energy(track: Track) -> NDArray[np.float64]:
    """A track's energy, 100 frames a second; empty where its analysis is out of date."""
    return _energy(track, _changed(track))


@remembered(64)  # some 200 kB each
def _energy(track: Track, _key: int) -> NDArray[np.float64]:
    found = analysed(track)
    return found.evidence.energy.astype(np.float64).sum(axis=1) if found else np.zeros(0)


def peak(track: Track) -> float:
    """The largest absolute sample of a track, full scale being 1; 0 while it is not analysed, or lost."""
    return _peak(track, _changed(track)) if track.analysed else 0.0


@remembered(512)  # a number each
def _peak(track: Track, _key: int) -> float:
    try:
        coarsest = np.load(track.folder / f"peaks-{LEVELS[-1]}.npy").astype(np.float64)
    except FileNotFoundError:
        return 0.0
    return float(np.abs(coarsest).max(initial=0) / 32767)


def peaks(track: Track, level: int, first: int, count: int) -> bytes:
    """Peaks ``first`` to ``first + count`` at ``level`` samples a bin, as int16 pairs. Raises ``KeyError``."""
    if level not in LEVELS:
        raise KeyError(level)
    return bytes(np.load(track.folder / f"peaks-{level}.npy", mmap_mode="r")[first : first + count].tobytes())
