"""What is costly to make and the same for many tests: made once, for all processes of a run and for later runs.

Kept in ``build/tests`` by the content of everything in ``core`` and ``studio``, so that nothing outdated is ever used.
"""

import fcntl
import hashlib
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from functools import cache
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
FOLDER = ROOT / "build" / "tests"


@cache
def _version() -> str:
    found = hashlib.blake2b(digest_size=10)
    for folder in ("core", "studio"):
        for path in sorted((ROOT / folder).rglob("*")):
            if path.is_file() and "__pycache__" not in path.parts:
                found.update(str(path.relative_to(ROOT)).encode() + path.read_bytes())
    return found.hexdigest()


def made_once(name: str, make: Callable[[Path], None]) -> Path:
    """The folder called ``name``, filled by ``make`` where no run of this version has done so; others wait for it."""
    own = FOLDER / _version()
    own.mkdir(parents=True, exist_ok=True)
    for other in FOLDER.iterdir():
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


def demo_studio() -> Path:
    """A folder with the demo sessions as their command makes them. Servers get a copy each."""
    return made_once("demo-studio", _make_demo)


def _make_demo(folder: Path) -> None:
    for command in (["migrate", "-v0"], ["demo"]):
        environment = {**os.environ, "DIACHRON_DATA": str(folder)}
        subprocess.run(
            [sys.executable, "manage.py", *command], cwd=ROOT, env=environment, check=True, capture_output=True
        )
