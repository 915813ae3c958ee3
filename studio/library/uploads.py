"""Uploads: a complete file becomes a track, or a sentence that says why not."""

import hashlib
import os
import shutil
from collections.abc import Callable, Sequence
from pathlib import Path

from django.db import transaction

from core import audio
from core.analysis import midi_tracks
from core.audio.naming import track_name
from core.errors import InputError
from core.formats import smf
from studio.library.models import Session, Track

LONGEST_NAME = 200
#: Bytes of an upload that have a digest of their own; the page sends as many at once.
PIECE = 4 * 2**20
#: The kind of job that analyses a new track (registered by ``studio.analysis``).
LISTEN = "listen"


#: What an uploaded file becomes beside a track: each says what it made of it, or None where it is not for it.
Opener = Callable[[Session, Path, str], dict[str, object] | None]
_openers: list[Opener] = []


def register_opener(opener: Opener) -> None:
    """Have files of another kind opened; from an app's ``ready``."""
    _openers.append(opener)


def opened(session: Session, path: Path, name: str) -> dict[str, object] | None:
    """What became of a file that is no track; None where it may be one. Raises :class:`Refused`."""
    for opener in _openers:
        if (outcome := opener(session, path, clean_name(name))) is not None:
            return outcome
    return None


class Refused(InputError):
    """A file that cannot become a track, in words for the engineer."""


def clean_name(text: str) -> str:
    """A file's own name for display: no folders, no control characters, of readable length."""
    return shown_name(text.replace("\\", "/").rsplit("/", 1)[-1])


def shown_name(text: str) -> str:
    """A name that somebody gave, for display: no control characters, of readable length."""
    name = " ".join("".join(c if c.isprintable() else " " for c in text).split()) or "Unnamed"
    return name if len(name) <= LONGEST_NAME else name[: LONGEST_NAME - 1] + "…"


def free_name(session: Session, name: str) -> str:
    """``name``, numbered where the session has such a track already."""
    taken = set(session.tracks.values_list("name", flat=True))
    number, free = 2, name
    while free in taken:
        free, number = f"{name} ({number})", number + 1
    return free


def digest_of(path: Path) -> str:
    with path.open("rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()


def digest_of_pieces(path: Path) -> str:
    """SHA-256 of the SHA-256 digests of each :data:`PIECE` bytes: the page calculates it without a second pass."""
    whole = hashlib.sha256()
    with path.open("rb") as f:
        while piece := f.read(PIECE):
            whole.update(hashlib.sha256(piece).digest())
    return whole.hexdigest()


def add_track(session: Session, path: Path, original_name: str, among: Sequence[str] = ()) -> Track:
    """Make a track of the file at ``path``, which stays there, named after ``original_name`` (``among``: of the files
    that came with it). Raises :class:`Refused`."""
    name = clean_name(original_name)
    digest = digest_of(path)
    twin = session.tracks.filter(digest=digest).first()
    if twin:
        raise Refused(f"“{name}” is already here as “{twin.name}”; it was not added twice.")
    midi = midi_tracks.is_midi(original_name)
    try:
        if midi:
            notes = smf.read_notes(path, name)
            facts = {
                "rate": midi_tracks.RENDER_RATE,
                "channels": 1,
                "seconds": midi_tracks.performance_seconds(notes),
            }
        else:
            info = audio.inspect(path, name)
            facts = {"rate": info.rate, "channels": info.channels, "seconds": info.seconds}
    except (audio.AudioError, smf.MidiError) as e:
        raise Refused(str(e)) from None
    suffix = ".mid" if midi else Path(name).suffix.lower()
    with transaction.atomic():
        if session.rate is None:
            session.rate = facts["rate"]
            session.save(update_fields=["rate", "touched"])
        track = Track.objects.create(
            session=session,
            name=free_name(session, track_name(name, [clean_name(n) for n in among])),
            source_name=f"source{suffix if suffix.isascii() and len(suffix) < 8 else ''}",
            digest=digest,
            midi=midi,
            remarks=_rate_remark(session.sample_rate, round(facts["rate"]), midi),
            **facts,
        )
        track.folder.mkdir(parents=True, exist_ok=True)
        _same_bytes(path, track.source)
    return track


def _same_bytes(path: Path, to: Path) -> None:
    """The file under a second name, where the file system can; else a copy."""
    to.unlink(missing_ok=True)  # of a track whose making failed
    try:
        os.link(path, to)
    except OSError:
        shutil.copyfile(path, to)


def _rate_remark(session_rate: int, rate: int, midi: bool) -> list[str]:
    if midi or rate == session_rate:
        return []
    return [
        f"Recorded at {rate / 1000:g} kHz; played beside the others at {session_rate / 1000:g} kHz. "
        "The file stays as it is."
    ]
