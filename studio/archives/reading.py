"""Opening an archived session: everything is checked before anything of it becomes a row."""

from __future__ import annotations

import hashlib
import json
import shutil
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path, PurePosixPath
from typing import Any

import orjson
from django.core.exceptions import ValidationError
from django.db import DatabaseError, models, transaction
from pydantic import BaseModel, ConfigDict, Field
from pydantic import ValidationError as Wrong

from core.errors import InputError
from core.formats.zips import UNREADABLE
from studio.archives.older import Newer, brought_forward
from studio.archives.rows import Rows, save_renumbered
from studio.archives.writing import FORMAT, MANIFEST, ROWS, VERSION
from studio.desk import pieces
from studio.desk.models import MapStep, Mark, Piece
from studio.histories import PIECES
from studio.library.models import Session, Track
from studio.parts.models import Part
from studio.reshaping.models import Reshape
from studio.reshaping.wanted import renumbered
from studio.running_order.models import Turn

_PIECE = 1 << 20
#: Bytes of the manifest and of the rows, at most.
_LARGEST_TEXT = 1 << 30
#: What is left free on the disk, in bytes.
_RESERVE = 200 << 20


class NoArchive(InputError):
    """A file that is no archive of a session, or a damaged one, in words for the engineer."""


class Recording(BaseModel):
    track: int
    file: str


class Loop(BaseModel):
    part: int
    file: str


class Manifest(BaseModel):
    """What is read of ``manifest.json``."""

    model_config = ConfigDict(extra="ignore")

    format: str
    version: int
    title: str
    migrations: dict[str, str]
    recordings: list[Recording] = Field(max_length=10_000)
    loops: list[Loop] = Field(max_length=10_000)
    sha256: dict[str, str] = Field(max_length=30_000)


def is_archive(path: Path) -> bool:
    """Whether a file is an archive of a session, as far as its list of contents tells."""
    if not zipfile.is_zipfile(path):
        return False
    try:
        with zipfile.ZipFile(path) as z:
            return {MANIFEST, ROWS} <= set(z.namelist())
    except zipfile.BadZipFile:
        return False


def verify(path: Path) -> Manifest:
    """Read all of an archive and compare it with its digests. Raises :class:`NoArchive`."""
    with tempfile.TemporaryDirectory() as folder, _opened(path) as z:
        manifest = _manifest(z, path.name)
        for name, digest in manifest.sha256.items():
            _checked(z, name, digest, Path(folder) / "file", path.name)
    return manifest


def read(path: Path, session: Session, progress: Callable[[float], None] = lambda _: None) -> None:
    """Fill an empty session with an archive. Its tracks have to be analysed again afterwards.

    Raises :class:`NoArchive`; the session is as before then.
    """
    session.folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=session.folder) as folder, _opened(path) as z:
        manifest = _manifest(z, path.name)
        _check_space(z, session.folder)
        rows = _rows(z, manifest, path.name)
        new_files = Path(folder)
        wanted = [(f"track-{r.track}", r.file) for r in manifest.recordings]
        wanted += [(f"loop-{loop.part}", loop.file) for loop in manifest.loops]
        for k, (name, file) in enumerate(wanted):
            _checked(z, file, manifest.sha256.get(file, ""), new_files / name, path.name)
            progress((k + 1) / len(wanted))
        try:
            with transaction.atomic():
                _store(rows, session, new_files)
        except (DatabaseError, ValidationError, ValueError, KeyError, TypeError, AttributeError) as e:
            raise NoArchive(
                f"What “{path.name}” says of the session does not fit together ({type(e).__name__})."
            ) from None


def _opened(path: Path) -> zipfile.ZipFile:
    try:
        return zipfile.ZipFile(path)
    except (zipfile.BadZipFile, OSError):
        raise NoArchive(f"“{path.name}” is no archive of a session, or it is damaged.") from None


def _manifest(z: zipfile.ZipFile, name: str) -> Manifest:
    try:
        if z.getinfo(MANIFEST).file_size > _LARGEST_TEXT:
            raise KeyError
        manifest = Manifest.model_validate_json(z.read(MANIFEST))
    except (*UNREADABLE, Wrong, ValueError):
        raise NoArchive(f"“{name}” is no archive of a session, or it is damaged.") from None
    if manifest.format != FORMAT:
        raise NoArchive(f"“{name}” is no archive of a session.")
    if manifest.version > VERSION:
        raise NoArchive(f"“{name}” was written by a newer Diachron; this one cannot open it.")
    return manifest


def _check_space(z: zipfile.ZipFile, folder: Path) -> None:
    needed, free = sum(i.file_size for i in z.infolist()), shutil.disk_usage(folder).free - _RESERVE
    if needed > free:
        raise NoArchive(f"The archive takes {needed / 1e6:.0f} MB; the disk has {max(0, free) / 1e6:.0f} MB left.")


def _rows(z: zipfile.ZipFile, manifest: Manifest, name: str) -> Rows:
    try:
        if z.getinfo(ROWS).file_size > _LARGEST_TEXT:
            raise KeyError
        text = z.read(ROWS)
        if hashlib.sha256(text).hexdigest() != manifest.sha256.get(ROWS):
            raise NoArchive(f"“{name}” is damaged: {ROWS} is not as it was written.")
        return brought_forward(json.loads(text), manifest.migrations)
    except Newer:
        raise NoArchive(f"“{name}” was written by a newer Diachron; this one cannot open it.") from None
    except NoArchive:
        raise
    except (*UNREADABLE, ValueError, TypeError, ValidationError, DatabaseError, LookupError):
        raise NoArchive(f"What “{name}” says of the session cannot be read.") from None


def _checked(z: zipfile.ZipFile, name: str, digest: str, to: Path, archive: str) -> None:
    """Unpack one file and compare it with its digest."""
    found = hashlib.sha256()
    if PurePosixPath(name).is_absolute() or ".." in PurePosixPath(name).parts:
        raise NoArchive(f"“{archive}” is no archive of a session.")
    try:
        with z.open(name) as source, to.open("wb") as target:
            while piece := source.read(_PIECE):
                found.update(piece)
                target.write(piece)
    except UNREADABLE:
        raise NoArchive(f"“{archive}” is damaged: {name} cannot be read.") from None
    if found.hexdigest() != digest:
        raise NoArchive(f"“{archive}” is damaged: {name} is not as it was written.")


# ---- rows and files in their places


def _store(rows: Rows, session: Session, files: Path) -> None:
    if len(rows["library.session"]) != 1:
        raise ValueError("an archive holds one session")

    def edit(_label: str, row: models.Model) -> None:
        if isinstance(row, Track):  # analyses are made anew
            row.analysed, row.features_version = False, 0
        if isinstance(row, Session):
            row.gone, row.gone_since, row.summarised = False, None, 0

    new = save_renumbered(rows, session, edit)
    keys = _Keys(new, session)
    _renumber_history(session, keys)
    for reshape in Reshape.objects.filter(session=session):
        reshape.wanted, reshape.writing, reshape.linking = renumbered(reshape.wanted, keys), {}, {}
        reshape.save()
    session.refresh_from_db()
    for track in Track.everything.filter(pk__in=new["library.track"].values()):
        old = next(o for o, n in new["library.track"].items() if n == track.pk)
        if (files / f"track-{old}").exists():
            track.folder.mkdir(parents=True, exist_ok=True)
            (files / f"track-{old}").replace(track.source)
    for old, pk in new["parts.part"].items():
        if (files / f"loop-{old}").exists():
            loop = Part(pk=pk, session=session).loop
            loop.parent.mkdir(parents=True, exist_ok=True)
            (files / f"loop-{old}").replace(loop)


class _Keys:
    """New keys by model and old key; rows of earlier steps that are gone get a key that nobody else has."""

    def __init__(self, new: dict[str, dict[int, int]], session: Session) -> None:
        self.new, self.session = new, session

    def __call__(self, label: str, old: int) -> int:
        known = self.new.setdefault(label, {})
        if old not in known:
            known[old] = self._unused(label)
        return known[old]

    def _unused(self, label: str) -> int:
        if label not in ("desk.mark", "running.turn"):
            return 0  # of what is never put back by its key
        # keys are never given twice, so that of a row that comes and goes is free for ever
        mark = Mark.objects.create(session=self.session, kind=Mark.Kind.SECTION, start=0, end=0)
        turn = Turn.objects.create(session=self.session, section=mark, place=0)
        unused = mark.pk if label == "desk.mark" else turn.pk
        mark.delete()
        return unused


def _renumber_history(session: Session, keys: _Keys) -> None:
    """What the steps hold beside the map names rows by their keys."""
    by_name = {p.name: p for p in PIECES}
    made: dict[tuple[str, str], str] = {}
    kept: dict[str, bytes] = {}
    used: set[str] = set()
    for step in MapStep.objects.filter(session=session).exclude(content=""):
        content: dict[str, Any] = orjson.loads(step.content)
        state = {}
        for name, digest in content["state"].items():
            if (name, digest) not in made:
                data = orjson.loads(pieces.fetch(session.pk, [digest])[digest])
                piece = by_name.get(name)
                digest_now, text = pieces.json_bytes(piece.renumber(data, keys) if piece and data is not None else data)
                made[name, digest], kept[digest_now] = digest_now, text
            state[name] = made[name, digest]
        used |= {*pieces.chunks_of(content["map"]), *state.values()}
        MapStep.objects.filter(pk=step.pk).update(content=orjson.dumps({**content, "state": state}).decode())
    pieces.keep(session, kept)
    Piece.objects.filter(session=session).exclude(digest__in=used).delete()
