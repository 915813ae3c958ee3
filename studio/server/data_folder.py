"""The data folder at start: one server at a time, a database that is whole and not newer than the program, a copy of it
before it is changed."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.utils import timezone
from filelock import FileLock, Timeout

from studio.database import is_behind

#: The database's file in the data folder.
DATABASE = "diachron.sqlite3"
#: Automatic copies of the database that stay: of the last days; and those made before an update.
_DAYS, _UPDATES = 7, 5
_STAMP = "%Y%m%d-%H%M%S"


class Unusable(Exception):
    """A data folder that cannot be used now, in words for the engineer."""


def locked(folder: Path) -> FileLock:
    """Keep other servers off the folder as long as the lock lives. Raises :class:`Unusable`."""
    lock = FileLock(folder / "server.lock")
    try:
        lock.acquire(timeout=0)
    except Timeout:
        raise Unusable(
            f"Another Diachron is using {folder}. Stop it first, or give this one another folder: set DIACHRON_DATA."
        ) from None
    except OSError as e:
        raise Unusable(f"Diachron cannot write to {folder}: {e.strerror}.") from None
    return lock


def check_database(path: Path) -> None:
    """Raises :class:`Unusable` where the database is damaged, or of a newer program."""
    if not path.exists():
        return
    try:
        with closing(sqlite3.connect(path)) as database:
            found = database.execute("PRAGMA quick_check(1)").fetchone()[0]
    except sqlite3.DatabaseError as e:
        found = str(e)
    if found != "ok":
        newest = max(backups(path.parent), default=None, key=lambda p: p.stat().st_mtime)
        which = f"The newest copy of it is {newest}: with Diachron stopped, put it in its place." if newest else ""
        raise Unusable(f"The database {path} is damaged ({found}). {which}".strip())
    executor = MigrationExecutor(connection)
    ours = {app for app, _ in executor.loader.disk_migrations}
    known = executor.loader.disk_migrations
    if any(m not in known for m in executor.loader.applied_migrations if m[0] in ours):
        raise Unusable(
            f"The data in {path.parent} were written by a newer version of Diachron. Install that version, or use "
            "another folder: set DIACHRON_DATA."
        )


def backups(folder: Path) -> list[Path]:
    """Copies of the database, the oldest first."""
    return sorted((folder / "backups").glob("*.sqlite3"))


def copy_database(path: Path, to: Path) -> Path:
    """A copy that is whole, also while others write (SQLite's own backup)."""
    to.parent.mkdir(parents=True, exist_ok=True)
    partial = to.with_suffix(".partial")
    with closing(sqlite3.connect(path)) as source, closing(sqlite3.connect(partial)) as target:
        source.backup(target)
    partial.replace(to)
    return to


def copy_before_update(path: Path) -> Path | None:
    """A copy of a database that is about to be updated; the oldest of those go."""
    if not path.exists() or not is_behind():
        return None
    made = copy_database(path, path.parent / "backups" / f"before-update-{timezone.now():{_STAMP}}.sqlite3")
    _keep_last(path.parent, "before-update-*", _UPDATES)
    return made


def copy_daily(path: Path) -> Path | None:
    """A copy a day; None where today's is there. The last seven stay."""
    to = path.parent / "backups" / f"daily-{timezone.now():%Y%m%d}.sqlite3"
    if to.exists() or not path.exists():
        return None
    made = copy_database(path, to)
    _keep_last(path.parent, "daily-*", _DAYS)
    return made


def _keep_last(folder: Path, pattern: str, count: int) -> None:
    for old in sorted((folder / "backups").glob(f"{pattern}.sqlite3"))[:-count]:
        old.unlink()
