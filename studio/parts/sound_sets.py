"""The sound sets that parts can be played with: the one that ships, those in the data folder, the built-in voices."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings

from core.instruments.soundfont import SoundFont
from core.instruments.stream import Player
from studio.library.models import Session
from studio.parts.models import Part

#: What the choice of the built-in voices is stored as; the set that ships is the empty text.
BUILT_IN = "built-in"
#: How the set that ships is called on the page.
SHIPPED = "Fluid R3 (sampled)"
_ENDINGS = (".sf2", ".sf3")


def folder() -> Path:
    """Where an engineer's own sets lie."""
    return Path(settings.DATA) / "sounds"


def choices() -> dict[str, str]:
    """What can be chosen, as it is stored, with its name."""
    own = sorted(p.name for p in folder().glob("*") if p.suffix.lower() in _ENDINGS) if folder().is_dir() else []
    shipped = {"": SHIPPED} if settings.SOUND_SET.exists() else {}
    return {**shipped, BUILT_IN: "Built-in voices", **{name: name for name in own}}


def _file(session: Session) -> Path | None:
    """The set that a session plays with; None: the built-in voices, also where its file is not there any more."""
    if session.sounds == BUILT_IN:
        return None
    own = folder() / Path(session.sounds).name
    path = own if session.sounds and own.is_file() else settings.SOUND_SET
    return path if path.exists() else None


def check(choice: str) -> None:
    """Raises :class:`core.instruments.soundfont.SoundFontError` where a set of the engineer's own cannot be read."""
    if choice not in ("", BUILT_IN):
        SoundFont(folder() / Path(choice).name)


def shipped() -> tuple[Path, int] | None:
    """The set that ships, and when its file was changed."""
    path = settings.SOUND_SET
    return (path, path.stat().st_mtime_ns) if path.exists() else None


def player_of(part: Part) -> Player:
    """Who plays a part."""
    path = _file(part.session)
    return Player(part.instrument, part.program, (path, path.stat().st_mtime_ns) if path else None)
