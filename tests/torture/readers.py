"""Damaged files through the real upload protocol and every other reader: a sentence, or a track; never a bug."""

from __future__ import annotations

import hashlib
import tempfile
import time
from dataclasses import dataclass, field
from pathlib import Path

from django.test import Client

from core.formats.beat_tables import MapFileError
from core.formats.map_files import read_any_map
from core.formats.smf import MidiError
from core.formats.song import read_song
from core.tempomap.errors import EditError
from studio.jobs.models import Job
from studio.jobs.queue import start, taken
from studio.jobs.working import work
from studio.library.models import Session, Track, Upload
from studio.library.uploads import LISTEN
from tests.shared import digest_of_upload
from tests.torture.damaged_files import damaged_files

#: Seconds that a job on such a small file may take.
LIMIT = 20.0


@dataclass
class Brought:
    count: int = 0
    became_tracks: int = 0
    slowest: float = 0.0
    wrong: list[str] = field(default_factory=list)


def bring_in(count: int, seed: int) -> Brought:
    """Each file into a session, as the page brings it; what became a track is analysed."""
    found = Brought()
    page = Client(raise_request_exception=False)
    made = Session.objects.create(title="Damaged")
    for name, data in damaged_files(count, seed):
        if not data:
            continue
        found.count += 1
        answer = _sent(page, made, name, data)
        if answer.status_code >= 500:
            found.wrong.append(f"{name}: {answer.status_code} {answer.content[:200]!r}")
        if Upload.objects.filter(outcome__isnull=True).exists():
            found.wrong.append(f"{name}: the upload is stuck")
            Upload.objects.all().delete()
        if answer.status_code != 200:
            continue
        found.became_tracks += 1
        told = answer.json()
        for pk in told.get("tracks") or [told["track"]]:  # of many channels, a track a channel
            _listen(made, Track.objects.get(pk=pk), name, found)
    return found


def _listen(session: Session, track: Track, name: str, found: Brought) -> None:
    begun = time.monotonic()
    job = taken(start(session, LISTEN, track), "torture")
    if job:
        work(job)
    took = time.monotonic() - begun
    found.slowest = max(found.slowest, took)
    ended = Job.objects.get(session=session, track=track)
    if took > LIMIT or "log has the details" in ended.message:
        found.wrong.append(f"{name}: {took:.1f} s, {ended.state} {ended.message}")


def _sent(page: Client, to: Session, name: str, data: bytes):
    digest = hashlib.sha256(data).hexdigest()
    body = {"name": name, "size": len(data)}
    told = page.post(f"/sessions/{to.pk}/uploads", body, content_type="application/json")
    if told.status_code != 200:
        return told
    upload = told.json()["id"]
    page.put(f"/uploads/{upload}?offset=0", data, content_type="application/octet-stream", headers={"X-Digest": digest})
    return page.post(f"/uploads/{upload}/finish", {"digest": digest_of_upload(data)}, content_type="application/json")


def read_maps(count: int, seed: int) -> Brought:
    """Each file as a map, and as a song where it is MIDI."""
    found = Brought()
    with tempfile.TemporaryDirectory() as folder:
        for name, data in damaged_files(count, seed):
            path = Path(folder) / name
            path.write_bytes(data)
            found.count += 1
            begun = time.monotonic()
            for read in (read_any_map, *([read_song] if name.endswith(".mid") else [])):
                try:
                    read(path, name)
                    found.became_tracks += 1
                except (MapFileError, MidiError, EditError):
                    pass
                except Exception as e:  # what is looked for
                    found.wrong.append(f"{name}: {read.__name__}: {type(e).__name__}: {e}")
            if time.monotonic() - begun > LIMIT:
                found.wrong.append(f"{name}: {time.monotonic() - begun:.1f} s")
            path.unlink()
    return found
