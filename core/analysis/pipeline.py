"""From files to a map: every track is analysed once, or read from a store, then beats and bars are found."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from core.analysis import midi_tracks
from core.errors import InputError
from core.listening import track as audio_tracks
from core.listening.track import AnalysedTrack
from core.tracking import TrackingOptions, TrackingResult, track_beats
from core.tracking.results import Progress, no_progress

#: Finding beats needs at least so many seconds.
SHORTEST = 4.0
#: The share of progress that analysing the tracks takes, where none is stored yet.
_LISTENING_SHARE = 0.6


class AnalysisError(InputError):
    """Files that cannot be analysed together, in words for the engineer."""


@dataclass(frozen=True)
class Source:
    """One track's file, audio or MIDI. ``name``: what the track is called; ``rendered``: where a MIDI performance is
    rendered to, for those who play it; by default a temporary file."""

    path: Path
    name: str
    rendered: Path | None = None


class TrackStore(Protocol):
    """Keeps analysed tracks between analyses."""

    def read(self, source: Source) -> AnalysedTrack | None:
        """The track as it was written; None where it has to be analysed (again)."""

    def write(self, source: Source, track: AnalysedTrack) -> None:
        """Keep a track that was just analysed."""


@dataclass(frozen=True)
class Analysis:
    """All tracks and what was found: ``result.map`` is the tempo map, ``result.guides`` the tracks' ranks as guides."""

    tracks: list[AnalysedTrack]
    result: TrackingResult

    @property
    def seconds(self) -> float:
        """Length of the take."""
        return max(t.seconds for t in self.tracks)


def analyse_source(source: Source, progress: audio_tracks.Progress = audio_tracks.no_progress) -> AnalysedTrack:
    """Analyse one file.

    Raises :class:`core.audio.AudioError` or :class:`core.formats.smf.MidiError`.
    """
    if not midi_tracks.is_midi(source.path.name):
        return audio_tracks.analyse_track(source.path, source.name, progress=progress)
    if source.rendered:
        return midi_tracks.analyse_midi(source.path, source.name, source.rendered, progress)
    with tempfile.TemporaryDirectory() as folder:
        return midi_tracks.analyse_midi(source.path, source.name, Path(folder) / "rendered.flac", progress)


def analyse_sources(
    sources: Sequence[Source], store: TrackStore | None = None, progress: Progress = no_progress, threads: int = 1
) -> Iterator[AnalysedTrack]:
    """The sources' tracks in their order, from the store where it has them; ``threads`` at a time.

    Stages of ``progress`` name the track; with several threads only whole tracks count. Raises as
    :func:`analyse_source`.
    """

    def one(source: Source, track_progress: audio_tracks.Progress = audio_tracks.no_progress) -> AnalysedTrack:
        stored = store.read(source) if store else None
        if stored is not None:
            return stored
        track = analyse_source(source, track_progress)
        if store:
            store.write(source, track)
        return track

    count = len(sources)
    if threads == 1:
        for i, source in enumerate(sources):
            stage = f"Listening to {source.name} ({i + 1} of {count})"
            yield one(source, lambda x, i=i, stage=stage: progress(stage, (i + x) / count))  # type: ignore[misc]
        return
    with ThreadPoolExecutor(threads) as pool:
        for done, track in enumerate(pool.map(one, sources), 1):
            progress("Listening", done / count)
            yield track


def find_map(
    tracks: Sequence[AnalysedTrack], options: TrackingOptions = TrackingOptions(), progress: Progress = no_progress
) -> TrackingResult:
    """Find the beats and bars of analysed tracks.

    Raises :class:`AnalysisError` where they are too short, and :class:`core.tracking.NoBeats`.
    """
    longest = max(t.seconds for t in tracks)
    if longest < SHORTEST:
        raise AnalysisError(f"The take lasts {longest:.1f} s; finding beats needs at least {SHORTEST:.0f} s.")
    return track_beats(tracks, options, progress)


def analyse(
    sources: Sequence[Source],
    options: TrackingOptions = TrackingOptions(),
    progress: Progress = no_progress,
    store: TrackStore | None = None,
    threads: int = 1,
) -> Analysis:
    """Analyse the tracks of a take and find its beats and bars.

    Parameters
    ----------
    sources
        Files that start together.
    options
        What the engineer says beforehand; guides go by the tracks' names.
    store
        Where analysed tracks are kept; a second analysis is only the search.

    Raises :class:`AnalysisError`, :class:`core.tracking.NoBeats`, and as :func:`analyse_source`.
    """
    if not sources:
        raise AnalysisError("There are no tracks yet. Drop the tracks of a performance on the page.")
    tracks = list(analyse_sources(sources, store, lambda s, x: progress(s, _LISTENING_SHARE * x), threads))
    rest = 1 - _LISTENING_SHARE
    result = find_map(tracks, options, lambda s, x: progress(s, _LISTENING_SHARE + rest * x))
    return Analysis(tracks, result)
