"""Rows of an older version, brought forward: they are put into tables as those were then, which are then migrated as a
database of that time would be."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from django.db import connections
from django.db.migrations.executor import MigrationExecutor
from django.db.migrations.loader import MigrationLoader

from core.errors import InputError
from studio.archives.rows import Rows, filled, models_of_session, plain

_ALIAS = "older"


class Newer(InputError):
    """Rows of a newer version than this program knows."""


def migrations_now() -> dict[str, str]:
    """The last migration of each app that has rows of sessions."""
    loader = MigrationLoader(None)
    labels = {m._meta.app_label for m in models_of_session()}
    return {app: name for app, name in sorted(loader.graph.leaf_nodes()) if app in labels}


def brought_forward(rows: Rows, then: dict[str, str]) -> Rows:
    """The rows as the present tables have them. Raises :class:`Newer`, and ``ValueError`` where they do not fit the
    tables of ``then``."""
    now = migrations_now()
    if then == now:
        return rows
    known = MigrationLoader(None).disk_migrations
    if any((app, name) not in known for app, name in then.items()):
        raise Newer
    with tempfile.TemporaryDirectory() as folder:
        file = {"ENGINE": "django.db.backends.sqlite3", "NAME": str(Path(folder) / "older.sqlite3"), "OPTIONS": {}}
        settings: dict[str, Any] = {**connections.settings["default"], **file}
        connections.settings[_ALIAS] = settings
        try:
            return _migrated(rows, list(then.items()), list(now.items()))
        finally:
            connections[_ALIAS].close()
            del connections[_ALIAS]
            del connections.settings[_ALIAS]


def _migrated(rows: Rows, then: list[tuple[str, str]], now: list[tuple[str, str]]) -> Rows:
    connection = connections[_ALIAS]
    state = MigrationExecutor(connection).migrate(then)
    # rows may lead to rows that come later
    with connection.constraint_checks_disabled():
        for label, several in rows.items():
            model = state.apps.get_model(label)
            for values in several:
                filled(model, values).save_base(raw=True, force_insert=True, using=_ALIAS)
    connection.check_constraints()
    MigrationExecutor(connection).migrate(now)
    return {
        m._meta.label_lower: [plain(row) for row in m._base_manager.using(_ALIAS).order_by("pk")]
        for m in models_of_session()
    }
