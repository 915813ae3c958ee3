"""Prepares scores once: ``python -m training.repertoire build/scores`` writes a JSON file for each piece."""

from __future__ import annotations

import re
import sys
from multiprocessing import Pool
from pathlib import Path

from training import composed, tunes
from training.score import Score, save


def _keep(folder: Path, kind: str, found: Score) -> None:
    name = re.sub(r"[^A-Za-z0-9#_-]+", "_", found.source)
    (folder / kind).mkdir(parents=True, exist_ok=True)
    save(found, folder / kind / f"{name}.json")


def _prepare(job: tuple[Path, str, str]) -> None:
    folder, kind, path = job
    try:
        for one in tunes.scores(kind, path):
            _keep(folder, kind, one)
    except Exception as e:  # some files of the corpus do not parse; told, and gone on without them
        print(path, type(e).__name__, e, flush=True)


def prepare(folder: Path) -> None:
    for name, data in composed.files():
        found = composed.score(name, data)
        if found:
            _keep(folder, "composed", found)
    with Pool(2) as pool:
        for done, _ in enumerate(pool.imap_unordered(_prepare, [(folder, k, p) for k, p in tunes.paths()]), 1):
            if done % 50 == 0:
                print(done, "files", flush=True)


if __name__ == "__main__":
    prepare(Path(sys.argv[1]))
