"""The files of a result as one: stored, not packed, as samples do not get smaller."""

from __future__ import annotations

import zipfile
from pathlib import Path


def zip_of(folder: Path) -> Path:
    """The archive of a folder of written tracks, made once."""
    made = folder.with_suffix(".zip")
    if not made.exists() or made.stat().st_mtime < (folder / "ready").stat().st_mtime:
        partial = folder.with_suffix(".partial")
        with zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as archive:
            for file in sorted(folder.iterdir()):
                if file.suffix in (".wav", ".mid"):
                    archive.write(file, file.name)
        partial.replace(made)
    return made
