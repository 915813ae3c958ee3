"""Errors of the disk, in the engineer's words."""

from __future__ import annotations

import errno
import shutil
from pathlib import Path

FULL = "The disk is full: free some space."
#: With fewer bytes free the disk counts as full.
_SCARCE = 2**20


def of_the_disk(error: OSError) -> str:
    """A sentence for an error of reading or writing."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return FULL
    return f"The disk reports: {error.strerror or error}."


def is_full(folder: Path, reserve: int = _SCARCE) -> bool:
    """Whether fewer than ``reserve`` bytes are free on the disk of a folder."""
    return shutil.disk_usage(folder).free < reserve
