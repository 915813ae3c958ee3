"""Whether the database exists, and whether it is of this version."""

from __future__ import annotations

from pathlib import Path

from django.db import DEFAULT_DB_ALIAS, connection, connections
from django.db.backends.sqlite3.base import DatabaseWrapper as SQLite
from django.db.migrations.executor import MigrationExecutor
from django.db.migrations.recorder import MigrationRecorder


def is_there() -> bool:
    """Whether there is a database with tables in it. Does not create one."""
    database = connections[DEFAULT_DB_ALIAS]
    on_disk = isinstance(database, SQLite) and not database.is_in_memory_db()
    if on_disk and not Path(database.settings_dict["NAME"]).exists():
        return False
    return MigrationRecorder(database).has_table()


def is_behind() -> bool:
    """Whether it has to be updated to this version."""
    executor = MigrationExecutor(connection)
    return bool(executor.migration_plan(executor.loader.graph.leaf_nodes()))
