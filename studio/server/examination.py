"""Whether the files of a studio are as the database says: what the doctor command looks at, and what it can mend."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from core.audio.peaks import LEVELS
from studio.analysis.features import FEATURES, analysed
from studio.jobs.queue import start
from studio.library.models import Session, Track, Upload
from studio.library.uploads import LISTEN, digest_of


@dataclass(frozen=True)
class Finding:
    """``words`` for the engineer; ``can_mend``: what is wrong can be made again, or is only in the way."""

    words: str
    can_mend: bool
    track: Track | None = None
    path: Path | None = None

    def mend(self) -> None:
        """Analyse the track again, or remove what is in the way."""
        if self.track is not None:
            (self.track.folder / FEATURES).unlink(missing_ok=True)
            Track.everything.filter(pk=self.track.pk).update(features_version=0)
            start(self.track.session, LISTEN, self.track)
        elif self.path is not None:
            self.path.unlink(missing_ok=True)


def examine(folder: Path, thoroughly: bool = True) -> Iterator[Finding]:
    """All that is wrong. ``thoroughly``: digests of the recordings too, which reads all of them."""
    for track in Track.everything.select_related("session"):
        yield from _of_track(track, thoroughly)
    for part in sorted(folder.glob("*/upload-*.part")):
        if not Upload.objects.filter(pk=part.stem.removeprefix("upload-")).exists():
            yield Finding(f"{part}: part of an upload that nobody knows of.", True, path=part)
    for partial in sorted(folder.glob("*/*/*.partial")):
        yield Finding(f"{partial}: a file that was not written to its end.", True, path=partial)
    known = {str(pk) for pk in Session.everything.values_list("pk", flat=True)}
    for stray in sorted(f for f in folder.glob("*") if f.is_dir() and f.name not in known):
        yield Finding(f"{stray}: files of a session that is not in the database. Look before you remove them.", False)


def _of_track(track: Track, thoroughly: bool) -> Iterator[Finding]:
    where = f"{track.session.title}, {track.name}"
    if not track.source.exists():
        yield Finding(f"{where}: the recording is missing ({track.source}). Put it back from a backup.", False)
        return
    if thoroughly and digest_of(track.source) != track.digest:
        yield Finding(f"{where}: the recording is not as it came ({track.source}). Put it back from a backup.", False)
        return
    if not track.analysed:
        return
    missing = [p for level in LEVELS if not (p := track.folder / f"peaks-{level}.npy").exists()]
    copied = track.offset or track.midi or track.rate != track.session.sample_rate
    if copied and not track.playback_copy.exists():
        missing.append(track.playback_copy)
    if missing or analysed(track) is None:
        yield Finding(f"{where}: what was analysed is missing or damaged.", True, track=track)
