"""Write sessions as files of their own, each with its recordings, steps, parts and marks; or look whether such files
are whole."""

from pathlib import Path
from typing import Any

from django.core.management.base import CommandError, CommandParser

from studio.archives import reading, writing
from studio.commands import StudioCommand, require_sessions
from studio.delivery.content import plain_title
from studio.library.models import Session


class Command(StudioCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("titles", nargs="*", help="titles of sessions, or with --verify files")
        parser.add_argument("--all", action="store_true", help="all sessions")
        parser.add_argument("--to", type=Path, default=Path(), help="the folder that they go to (default: this one)")
        parser.add_argument("--verify", action="store_true", help="compare files with their digests; writes nothing")

    def handle(self, *, titles: list[str], all: bool, to: Path, verify: bool, **options: Any) -> None:
        if verify:
            return self._verify([Path(t) for t in titles])
        require_sessions()
        sessions = list(Session.objects.select_related("step").order_by("pk"))
        if not all:
            missing = [t for t in titles if t not in {s.title for s in sessions}]
            if missing or not titles:
                raise CommandError(
                    f"There is no session “{missing[0]}”." if missing else "Name sessions, or say --all."
                )
            sessions = [s for s in sessions if s.title in titles]
        try:
            to.mkdir(parents=True, exist_ok=True)
        except OSError as e:
            raise CommandError(f"{to} cannot be a folder for them: {e.strerror}.") from None
        for session in sessions:
            path = _free(to / f"{plain_title(session)}, session.zip")
            try:
                writing.write(session, path)
            except OSError as e:
                raise CommandError(f"{path} cannot be written: {e.strerror}.") from None
            self.stdout.write(f"{path}: {path.stat().st_size / 1e6:.1f} MB")
        return None

    def _verify(self, files: list[Path]) -> None:
        if not files:
            raise CommandError("Name the files that are to be looked at.")
        for path in files:
            try:
                manifest = reading.verify(path)
            except reading.NoArchive as e:
                raise CommandError(str(e)) from None
            count = len(manifest.recordings)
            self.stdout.write(f"{path}: whole, {count} recording{'s' * (count != 1)}, “{manifest.title}”")


def _free(path: Path) -> Path:
    out, n = path, 2
    while out.exists():
        out, n = path.with_name(f"{path.stem} {n}{path.suffix}"), n + 1
    return out
