"""What goes in and out: a batch beside single runs, archives both ways, the page of thousands of sessions, the start of
the command line. ``python -m bench delivery``."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile as sf

from bench.takes import PRACTICE

_ROOT = Path(__file__).resolve().parents[1]


def _timed(command: list[str], **more: object) -> float:
    begun = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True, cwd=_ROOT, **more)  # type: ignore[call-overload]
    return time.perf_counter() - begun


def start() -> None:
    took = [_timed([sys.executable, "-m", "core.cli", "map", "--help"]) for _ in range(5)]
    print(f"command line, start: median {np.median(took):.2f} s")


def batch() -> None:
    """The practice performances by one call on two processes, and one after another by two calls at a time."""
    folders = sorted(p for p in PRACTICE.glob("*/") if p.is_dir())
    if not folders:
        print("(no practice folder beside the project: no batch)")
        return
    minutes = sum(max(sf.info(f).duration for f in p.glob("*.flac")) for p in folders) / 60
    map_it = [sys.executable, "-m", "core.cli", "map", "--no-cache", "--json", "/dev/null"]
    # compiled code is on disk from the first run on
    _timed([*map_it, *map(str, sorted(folders[0].glob("*.flac")))])
    single = sum(_timed([*map_it, *map(str, sorted(p.glob("*.flac")))]) for p in folders)
    with tempfile.TemporaryDirectory() as out:
        command = [sys.executable, "-m", "core.cli", "batch", *map(str, folders), "-o", f"{out}/1", "--write", "json"]
        both = _timed([*command, "--workers", "2"])
        command[command.index(f"{out}/1")] = f"{out}/2"
        alone = _timed([*command, "--workers", "1"])
    print(f"batch of {len(folders)} performances, {minutes:.0f} minutes: {both:.0f} s, {both / minutes:.2f} s a minute")
    print(f"  one after another by single calls {single:.0f} s: ratio {both / single:.2f}")
    print(f"  with one worker {alone:.0f} s: two are {alone / both:.2f} times as fast")
    print(
        f"  10,000 takes of {minutes / len(folders):.1f} minutes, reckoned: {both / len(folders) * 1e4 / 3600:.1f} hours"
    )


def studio() -> None:
    """Archives and lists, in a data folder of their own."""
    with tempfile.TemporaryDirectory() as data:
        environment = {**os.environ, "DIACHRON_DATA": data, "DJANGO_SETTINGS_MODULE": "studio.settings"}
        done = subprocess.run(
            [sys.executable, "-c", "from bench.delivery import in_studio; in_studio()"],
            check=True,
            capture_output=True,
            text=True,
            cwd=_ROOT,
            env=environment,
        )
        print(done.stdout, end="")


def in_studio() -> None:
    """In a process whose data folder is a fresh one: prints what it measures."""
    import django

    django.setup()
    from django.conf import settings
    from django.core.management import call_command
    from django.test import Client

    from core.tempomap import TempoMap
    from studio.archives import reading, writing
    from studio.desk.history import record
    from studio.desk.models import MapStep
    from studio.library.models import Session, Track
    from studio.library.uploads import add_track

    call_command("migrate", verbosity=0)
    settings.ALLOWED_HOSTS = ["*"]
    rng = np.random.default_rng(1)
    take = Session.objects.create(title="Ten tracks")
    take.folder.mkdir(parents=True)
    with tempfile.TemporaryDirectory() as folder:
        for k in range(10):
            path = Path(folder) / f"track {k}.wav"
            sf.write(path, rng.uniform(-0.3, 0.3, 48_000 * 240), 48_000, "PCM_24")
            add_track(take, path, path.name)
        beats = 1 + np.cumsum(rng.uniform(0.45, 0.55, 470))
        for k in range(100):
            beats[k] += 0.001
            record(take, TempoMap.from_beats(beats), f"Edit {k}")
        archive = Path(folder) / "session.zip"
        begun = time.perf_counter()
        writing.write(Session.objects.get(pk=take.pk), archive)
        wrote = time.perf_counter() - begun
        made = Session.objects.create(title="empty")
        begun = time.perf_counter()
        reading.read(archive, made)
        size = archive.stat().st_size / 1e6
        print(
            f"archive of 10 tracks of 4 minutes, {size:.0f} MB: {wrote:.1f} s out, {time.perf_counter() - begun:.1f} s in"
        )
    maps = [TempoMap.from_beats(1 + np.cumsum(rng.uniform(0.4, 0.6, 400))) for _ in range(20)]
    for k in range(1998):
        session = Session.objects.create(title=f"Take {k:04d}")
        facts = {"source_name": "s.wav", "rate": 48_000, "channels": 1, "seconds": 240}
        Track.objects.bulk_create(Track(session=session, name=f"{i}", digest=f"{k} {i}", **facts) for i in range(4))
        step = record(session, maps[k % 20], "Beats found")
        MapStep.objects.filter(pk=step.pk).update(doubts=k % 4)
    page = Client(SERVER_NAME="127.0.0.1")
    while Session.objects.filter(step__isnull=False, summarised=0).exists():
        page.get("/")
    for query in ("", "?sort=tempo&down=1", "?sort=length&down=1", "?q=take+19", "?state=check", "?start=1200"):
        took = []
        for _ in range(7):
            begun = time.perf_counter()
            page.get(f"/{query}")
            took.append(1000 * (time.perf_counter() - begun))
        print(f"page of 2,000 sessions /{query}: median {np.median(took):.0f} ms")


def main() -> None:
    start()
    studio()
    batch()
