"""What is costly to make and the same for many tests: made once, for all processes of a run and for later runs.

Kept in ``build/tests`` by the content of all code that it is made by and the versions of all packages, so that nothing
outdated is ever used.
"""

import fcntl
import hashlib
import os
import pickle
import shutil
import subprocess
import sys
from collections.abc import Callable
from functools import cache
from importlib.metadata import distributions
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[1]
FOLDER = ROOT / "build" / "tests"

_TAKES = (
    *(f"core/{layer}" for layer in ("tempomap", "document", "audio", "listening", "instruments")),
    "core/errors.py",
    "core/notes.py",
    "core/demo/stage.py",
    "tests/core/takes.py",
)
#: What each kind of thing is made by, files or folders. That they import nothing else of the core is tested
#: (tests/core/test_kept.py).
MADE_BY = {
    "studio": ("core", "studio"),
    "demo": ("core", "tests/core/test_beat_tracker.py"),
    "takes": _TAKES,
    "roles": (*_TAKES, "tests/core/test_roles.py"),
    "songs": (*_TAKES, "core/harmony/chords.py", "bench/chord_songs.py"),
}
#: What lies among it and makes nothing: the page's scripts and styles, compiled modules.
_MAKE_NOTHING = {"static", "__pycache__"}


@cache
def _installed() -> bytes:
    """The interpreter and all packages, by version: they make things, too."""
    packages = sorted({(d.metadata["Name"], d.version) for d in distributions()})  # ours may lie on the path twice
    return repr((sys.version, packages)).encode()


@cache
def _version(kind: str) -> str:
    found = hashlib.blake2b(_installed(), digest_size=10)
    for part in MADE_BY[kind]:
        whole = ROOT / part
        for path in sorted(whole.rglob("*")) if whole.is_dir() else [whole]:
            if not path.is_dir() and not _MAKE_NOTHING.intersection(path.parts):
                found.update(str(path.relative_to(ROOT)).encode() + path.read_bytes())
    return found.hexdigest()


def made_once(name: str, make: Callable[[Path], object], kind: str = "studio") -> Path:
    """The folder called ``name``, filled by ``make`` where no run of this version has done so; others wait for it.
    ``kind``: one of :data:`MADE_BY`."""
    own = FOLDER / kind / _version(kind)
    own.mkdir(parents=True, exist_ok=True)
    for other in own.parent.iterdir():
        if other != own:
            shutil.rmtree(other, ignore_errors=True)
    with (own / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        target, partial = own / name, own / f"{name}.partial"
        if not target.exists():
            shutil.rmtree(partial, ignore_errors=True)
            partial.mkdir()
            make(partial)
            partial.replace(target)
    return target


def pickled_once(name: str, make: Callable[[], Any], kind: str) -> Any:
    """What ``make`` answers, kept by :func:`made_once`: each caller gets a copy of its own."""
    folder = made_once(name, lambda folder: (folder / "answer").write_bytes(pickle.dumps(make())), kind)
    return pickle.loads((folder / "answer").read_bytes())


def key_of(*asked: Any) -> str:
    """A name for what is made of ``asked``: the same in each run."""
    return hashlib.blake2b(pickle.dumps(asked), digest_size=10).hexdigest()


def demo_studio() -> Path:
    """A folder with the demo sessions as their command makes them. Servers get a copy each."""
    return made_once("demo-studio", _make_demo)


def _make_demo(folder: Path) -> None:
    for command in (["migrate", "-v0"], ["demo"]):
        environment = {**os.environ, "DIACHRON_DATA": str(folder)}
        subprocess.run(
            [sys.executable, "manage.py", *command], cwd=ROOT, env=environment, check=True, capture_output=True
        )


def digest_of_upload(data):
    """What the page says of a file once all of it is sent: SHA-256 of the digests of each 4 MiB."""
    pieces = [data[at : at + 2**22] for at in range(0, len(data), 2**22)]
    return hashlib.sha256(b"".join(hashlib.sha256(piece).digest() for piece in pieces)).hexdigest()
