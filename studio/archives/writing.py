"""A session as one ZIP: its rows, its recordings as they came, and its map in open formats, so that it is of use
without this program. ``manifest.json`` keeps to ``docs/session.schema.json``."""

from __future__ import annotations

import hashlib
import json
import zipfile
from collections.abc import Callable, Iterator
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from typing import Any

from django.utils import timezone

from core.formats.smf import MidiError
from studio.archives.older import migrations_now
from studio.archives.rows import rows_of
from studio.delivery.bundles import original_names
from studio.delivery.documents import DOCUMENTS
from studio.library.models import Session, Track

FORMAT, VERSION = "diachron.session", 1
MANIFEST, ROWS = "manifest.json", "rows.json"
#: What lies beside, for whoever opens it without this program.
_BESIDE = ("map.mid", "beats.csv", "labels.txt", "map.jams", "chart.musicxml", "map.json")
_PIECE = 1 << 20


def write(session: Session, to: Path, progress: Callable[[float], None] = lambda _: None) -> None:
    """Archive a session at ``to``, whole or not at all."""
    partial = to.with_name(to.name + ".partial")
    files: dict[str, str] = {}
    try:
        with zipfile.ZipFile(partial, "w", zipfile.ZIP_DEFLATED, allowZip64=True) as out:
            rows = json.dumps(rows_of(session), ensure_ascii=False).encode()
            _add(out, ROWS, rows, files)
            if session.step:
                for key in _BESIDE:
                    try:
                        _add(out, f"map/{DOCUMENTS[key].file}", DOCUMENTS[key].make(session), files)
                    except MidiError:  # a tempo that MIDI cannot hold; the others can
                        continue
            recordings = list(_recordings(session))
            loop_parts = [p for p in session.parts.all() if p.is_loop and p.loop.exists()]
            loops = [{"part": p.pk, "file": f"loops/{p.pk}.flac"} for p in loop_parts]
            sources = [(Path(r.pop("path")), r["file"]) for r in recordings]
            sources += [(p.loop, f"loops/{p.pk}.flac") for p in loop_parts]
            total = sum(path.stat().st_size for path, _ in sources) or 1
            done = 0
            for path, name in sources:
                done = _copy(out, path, name, files, lambda n: progress(n / total), done)
            manifest = {
                "format": FORMAT,
                "version": VERSION,
                "program": _program(),
                "made": timezone.now().isoformat(),
                "title": session.title,
                "migrations": migrations_now(),
                "recordings": recordings,
                "loops": loops,
                "sha256": files,
            }
            out.writestr(MANIFEST, json.dumps(manifest, indent=1, ensure_ascii=False))
        partial.replace(to)
    finally:
        partial.unlink(missing_ok=True)


def _recordings(session: Session) -> Iterator[dict[str, Any]]:
    """Also those that were taken out, as they can be brought back."""
    named = original_names(session)
    for track in Track.everything.filter(session=session):
        if track.source.exists():
            name = named.get(track) or f"taken out {track.pk}{track.source.suffix}"
            yield {
                "track": track.pk,
                "name": track.name,
                "file": f"recordings/{name}",
                "path": str(track.source),
                "seconds": track.seconds,
                "rate": track.rate,
                "channels": track.channels,
            }


def _add(out: zipfile.ZipFile, name: str, data: bytes, files: dict[str, str]) -> None:
    out.writestr(name, data)
    files[name] = hashlib.sha256(data).hexdigest()


def _copy(
    out: zipfile.ZipFile, path: Path, name: str, files: dict[str, str], progress: Callable[[int], None], done: int
) -> int:
    """Store a file as it is: samples do not get smaller. Returns the bytes done so far."""
    digest = hashlib.sha256()
    info = zipfile.ZipInfo.from_file(path, name)
    info.compress_type = zipfile.ZIP_STORED
    with path.open("rb") as source, out.open(info, "w", force_zip64=True) as target:
        while piece := source.read(_PIECE):
            target.write(piece)
            digest.update(piece)
            done += len(piece)
            progress(done)
    files[name] = digest.hexdigest()
    return done


def _program() -> str:
    try:
        return f"Diachron {version('diachron')}"
    except PackageNotFoundError:
        return "Diachron"
