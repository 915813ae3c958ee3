"""Styles, scripts and fonts: under an address that changes with their version, so that browsers may keep them for ever
and no page meets older scripts; for a shared studio copied and compressed once for each version."""

from __future__ import annotations

import hashlib
import posixpath
from collections.abc import Iterable
from pathlib import Path

from django.conf import settings
from django.core.management import call_command

#: Characters of a version.
_LENGTH = 12


def version_of(studio: Path, further: Iterable[Path]) -> str:
    """A name for the content of all files that the apps of ``studio`` and the ``further`` folders serve."""
    found = hashlib.blake2b()
    for folder in (*sorted(studio.glob("*/static")), studio / "static", *further):
        for path in sorted(p for p in folder.rglob("*") if p.is_file()):
            found.update(str(path.relative_to(folder)).encode() + path.read_bytes())
    return found.hexdigest()[:_LENGTH]


def show_below(prefix: str) -> None:
    """Let pages ask for them below ``prefix``, the path (like ``/maps``) under which a proxy shows the studio."""
    settings.STATIC_URL = posixpath.join("/", prefix.strip("/"), "static", settings.STATIC_VERSION, "")


def collect() -> bool:
    """Copy and compress them where that was not done for this version; whether it was done now."""
    done = Path(settings.STATIC_ROOT) / "version"
    if done.exists() and done.read_text() == settings.STATIC_VERSION:
        return False
    call_command("collectstatic", interactive=False, clear=True, verbosity=0)
    done.write_text(settings.STATIC_VERSION)
    return True
