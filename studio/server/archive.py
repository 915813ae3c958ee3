"""Everything of a studio in one file: the database and the recordings; what can be made again is left out."""

from __future__ import annotations

import hashlib
import json
import shutil
import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path

from studio.server.data_folder import DATABASE, Unusable, copy_database

CONTENTS = "contents.json"
#: Written by this version of the archive; a reader refuses newer ones.
VERSION = 1
_PIECE = 1 << 20


def kept_files(folder: Path) -> Iterator[Path]:
    """What cannot be made again: sources of tracks, sounds of loops."""
    for pattern in ("sessions/*/*/source*", "sessions/*/loops/*"):
        yield from sorted(folder.glob(pattern))


def write(folder: Path, to: Path) -> int:
    """Archive the data folder as a ZIP at ``to``, whole or not at all; the server may go on. How many recordings."""
    to.parent.mkdir(parents=True, exist_ok=True)
    partial = to.with_name(to.name + ".partial")
    contents: dict[str, str] = {}
    with (
        tempfile.TemporaryDirectory(dir=to.parent) as kept,
        zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED, allowZip64=True) as out,
    ):
        database = copy_database(folder / DATABASE, Path(kept) / DATABASE)
        files = [(database, DATABASE), *((f, f.relative_to(folder).as_posix()) for f in kept_files(folder))]
        for file, name in files:
            out.write(file, name)
            contents[name] = _digest(file)
        out.writestr(CONTENTS, json.dumps({"version": VERSION, "sha256": contents}, indent=1))
    partial.replace(to)
    return len(files) - 1


def read(archive: Path, folder: Path) -> int:
    """Put an archive into an empty data folder. How many recordings.

    Raises :class:`studio.server.data_folder.Unusable` where the folder has a database, or the archive is damaged; the
    folder is as before then.
    """
    if (folder / DATABASE).exists():
        raise Unusable(f"{folder} has a database already. Restore into an empty folder: set DIACHRON_DATA.")
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=folder) as kept:
        new = Path(kept)
        try:
            with zipfile.ZipFile(archive) as z:
                contents = json.loads(z.read(CONTENTS))
                if contents["version"] > VERSION:
                    raise Unusable(f"{archive.name} was written by a newer version of Diachron.")
                for name in contents["sha256"]:
                    if Path(name).is_absolute() or ".." in Path(name).parts:
                        raise Unusable(f"{archive.name} is no archive of Diachron.")
                    z.extract(name, new)
        except (zipfile.BadZipFile, zlib.error, KeyError, ValueError, TypeError, EOFError) as e:
            raise Unusable(f"{archive.name} is no archive of Diachron, or it is damaged ({e}).") from None
        except OSError as e:
            raise Unusable(f"{archive.name} cannot be read: {e.strerror}.") from None
        for name, digest in contents["sha256"].items():
            if _digest(new / name) != digest:
                raise Unusable(f"{archive.name} is damaged: {name} is not as it was written.")
        if (new / "sessions").exists():
            shutil.rmtree(folder / "sessions", ignore_errors=True)
            (new / "sessions").replace(folder / "sessions")
        (new / DATABASE).replace(folder / DATABASE)
    return len(contents["sha256"]) - 1


def _digest(path: Path) -> str:
    found = hashlib.sha256()
    with path.open("rb") as f:
        while piece := f.read(_PIECE):
            found.update(piece)
    return found.hexdigest()
