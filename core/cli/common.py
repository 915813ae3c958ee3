"""What all commands share: progress in a terminal, and the analyses of earlier files."""

from __future__ import annotations

import argparse
import math
import sys
from collections.abc import Sequence
from pathlib import Path

import platformdirs

from core.analysis import Source
from core.errors import InputError
from core.listening import stored
from core.listening.track import AnalysedTrack


class BadInput(InputError):
    """What the engineer gave cannot be used, in their words."""


def seconds(text: str) -> float:
    """An argument's type: a place in the recording."""
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise argparse.ArgumentTypeError(f"“{text}” is no number of seconds.")
    return value


def check_files(files: Sequence[Path]) -> None:
    """Raises :class:`BadInput` if a file is missing, or is a folder."""
    for path in files:
        if not path.exists():
            raise BadInput(f"“{path}” does not exist.")
        if path.is_dir():
            raise BadInput(f"“{path}” is a folder; name the files in it.")


def check_outputs(outputs: Sequence[Path], files: Sequence[Path]) -> None:
    """Raises :class:`BadInput` if an output's folder is missing, or if it would overwrite one of ``files``.

    To be called before the analysis, which can take long.
    """
    given = {path.resolve() for path in files}
    for path in outputs:
        if path.resolve() in given:
            raise BadInput(f"“{path}” is a recording of the take: recordings are never overwritten.")
        if path.is_dir():
            raise BadInput(f"“{path}” is a folder; name a file in it.")
        if not path.parent.is_dir():
            raise BadInput(f"There is no folder “{path.parent}” to write “{path.name}” to.")


class ProgressLine:
    """Progress on one line of a terminal; silent where there is no terminal."""

    def __init__(self) -> None:
        self.live = sys.stderr.isatty()

    def __call__(self, stage: str, share: float) -> None:
        if self.live:
            print(f"\r\x1b[K{stage} {share:4.0%}", end="", file=sys.stderr, flush=True)

    def end(self) -> None:
        if self.live:
            print("\r\x1b[K", end="", file=sys.stderr, flush=True)


#: Bytes that the analyses of earlier files may take.
CACHE_SIZE = 2 << 30


class Cache:
    """Analysed tracks in a folder, by what their files hold (:class:`core.analysis.TrackStore`)."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        stored.prune(folder, CACHE_SIZE)

    def _place(self, source: Source) -> Path:
        return self.folder / f"{stored.digest(source.path)}{source.path.suffix.lower()}.npz"

    def read(self, source: Source) -> AnalysedTrack | None:
        return stored.read(self._place(source), source.name)

    def write(self, source: Source, track: AnalysedTrack) -> None:
        stored.write(self._place(source), track)


def cache(unwanted: bool) -> Cache | None:
    """Where analyses are kept between calls."""
    return None if unwanted else Cache(Path(platformdirs.user_cache_dir("diachron")))
