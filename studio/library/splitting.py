"""A recorder's file of many channels becomes a track a channel."""

from __future__ import annotations

import tempfile
from pathlib import Path

from core import audio
from core.analysis import midi_tracks
from core.audio import splitting
from core.audio.naming import stem_of
from studio.jobs.queue import start
from studio.library.models import Session
from studio.library.uploads import LISTEN, Refused, add_track


def split_into_tracks(session: Session, path: Path, name: str) -> dict[str, object] | None:
    """What becomes of a file of more than two channels; None of any other. Raises :class:`Refused`."""
    if midi_tracks.is_midi(name):
        return None
    splitting.as_rf64(path)
    try:
        channels = splitting.channels_of(path)
        if channels <= splitting.MOST_TOGETHER:
            return None
        with tempfile.TemporaryDirectory(dir=session.folder) as folder:
            files = splitting.split(path, Path(folder))
            channel_names = splitting.channel_names(path, channels)
            names = [f"{stem_of(name)} {c}{f.suffix}" for c, f in zip(channel_names, files, strict=True)]
            tracks = []
            for file, own in zip(files, names, strict=True):
                try:
                    tracks.append(add_track(session, file, own, names))
                except Refused:  # two channels of the same sound are one track
                    continue
    except audio.AudioError as e:
        raise Refused(str(e)) from None
    if not tracks:
        raise Refused(f"“{name}” is already here, channel by channel; it was not added twice.")
    for track in tracks:
        start(session, LISTEN, track)
    return {"tracks": [t.pk for t in tracks], "name": name}
