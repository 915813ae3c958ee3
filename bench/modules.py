"""Composed music whose rows are known: modules, the music of many free games (``python -m bench.modules FOLDER``).

A module is a score of sampled sounds in rows: its beats are known exactly, its sounds are recorded ones, and people
composed it for people. Nothing was fitted to these; nothing of them ships. To get some hundred from Debian::

    apt-get install libopenmpt0
    mkdir modules && cd modules
    apt-get download ballz-data bb biniax2-data bomberclone-data ceferino-data criticalmass-data cuyo-data \\
        dodgindiamond2 fb-music-high flobopuyo gemdropx gl-117-data gltron gweled heroes-sound-tracks madbomber-data \\
        monsterz-data njam-data pachi-data pathogen pekka-kana-2-data penguin-command pingus-data rafkill-data \\
        redeclipse-data ri-li-data solarwolf tomatoes-data vectoroids vodovod vor
    for package in *.deb; do dpkg-deb -x $package .; done

Which of its rows are beats a module does not say. So both trackers are judged at the level that fits them best: every
1st to 24th row, counted from the start of each pattern, where that makes 60 to 220 beats a minute and divides the
pattern. Bar lines are right where they stand every so many rows from the start of a pattern. librosa's plain tracker
hears the same files.
"""

import argparse
import ctypes
import tempfile
import warnings
from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import librosa
import numpy as np
import soundfile
from numpy.typing import NDArray

from bench.unseen import f_measure
from core.analysis import Source, analyse_sources
from core.tracking.beat_tracker import track_beats

RATE = 44_100
KINDS = (".xm", ".it", ".s3m", ".mod")
#: Seconds of a module that are heard at most, and at least; samples from one look at the row to the next.
LONGEST, SHORTEST, STEP = 150, 30, 64
#: Beats a minute that are counted.
COUNTED = (60, 220)

Floats = NDArray[np.float64]


@dataclass
class Module:
    """What sounds, and when each row begins: its second, its number in its pattern, and how many rows of a pattern are
    usually played."""

    sound: NDArray[np.float32]
    seconds: Floats
    row: NDArray[np.int64]
    rows: int

    def grid(self, every: int) -> Floats:
        """Seconds of every nth row, n being ``every``, from the start of each pattern."""
        return self.seconds[self.row % every == 0]

    def levels(self) -> list[int]:
        """How many rows a beat may have."""
        row = float(np.median(np.diff(self.seconds)))
        return [n for n in range(1, 25) if self.rows % n == 0 and COUNTED[0] <= 60 / (row * n) <= COUNTED[1]]


def play(path: Path) -> Module | None:
    """The module, or None where it cannot be read or is too short."""
    player = ctypes.CDLL("libopenmpt.so.0")
    player.openmpt_module_create_from_memory2.restype = ctypes.c_void_p
    player.openmpt_module_read_float_mono.restype = ctypes.c_size_t
    content = path.read_bytes()
    handle = ctypes.c_void_p(
        player.openmpt_module_create_from_memory2(content, ctypes.c_size_t(len(content)), *7 * [None])
    )
    if not handle:
        return None
    buffer = (ctypes.c_float * STEP)()
    sound, rows, place, seen = [], [], 0, None
    while place < LONGEST * RATE:
        count = player.openmpt_module_read_float_mono(handle, RATE, ctypes.c_size_t(STEP), buffer)
        if not count:
            break
        order, row = (getattr(player, f"openmpt_module_get_current_{what}")(handle) for what in ("order", "row"))
        if (order, row) != seen:
            rows.append((place / RATE, seen is None or order != seen[0]))
            seen = order, row
        sound.append(np.frombuffer(buffer, np.float32, count).copy())
        place += count
    player.openmpt_module_destroy(handle)
    if place < SHORTEST * RATE:
        return None
    seconds, starts = (np.array(x) for x in zip(*rows, strict=True))
    numbers = np.arange(len(seconds))
    since = numbers - np.maximum.accumulate(np.where(starts, numbers, 0))
    played = Counter(np.diff(np.flatnonzero(np.append(starts, True))).tolist())
    together = np.concatenate(sound)
    loudest = float(np.abs(together).max())
    return Module(together * np.float32(0.8 / loudest), seconds, since, played.most_common(1)[0][0])


def best_f(module: Module, found: Floats, levels: Sequence[int]) -> tuple[float, float]:
    """F of beats within 70 and 20 ms, at the level that fits best."""
    grids = [module.grid(n) for n in levels]
    return max(((f_measure(g, found), f_measure(g, found, 0.02)) for g in grids), default=(0.0, 0.0))


def measured(path: Path) -> tuple[str, dict[str, tuple[float, ...]]] | None:
    warnings.simplefilter("ignore")
    module = play(path)
    if module is None or not (levels := module.levels()):
        return None
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder, "module.wav")
        soundfile.write(file, module.sound, RATE)
        result = track_beats(list(analyse_sources([Source(file, file.name)])))
    beats = result.map.beats()
    inside = (beats.seconds >= module.seconds[0] - 0.07) & (beats.seconds <= module.seconds[-1])
    seconds, opens = beats.seconds[inside], beats.beat[inside] == 1
    # the map may begin after an introduction, which is told: what it has is judged
    heard = Module(module.sound, *_from(module, seconds[0]), module.rows)
    rows_a_bar = float(np.median(np.diff(seconds[opens]))) / float(np.median(np.diff(module.seconds)))
    lines = heard.grid(max(1, round(rows_a_bar)))
    low = librosa.resample(module.sound, orig_sr=RATE, target_sr=22_050)
    _, plain = librosa.beat.beat_track(y=low, sr=22_050, units="time")
    theirs = best_f(heard, plain[plain >= seconds[0] - 0.07], levels)
    return str(path), {"ours": (*best_f(heard, seconds, levels), f_measure(lines, seconds[opens])), "librosa": theirs}


def _from(module: Module, start: float) -> tuple[Floats, NDArray[np.int64]]:
    there = module.seconds >= start - 0.07
    return module.seconds[there], module.row[there]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--cases", action="store_true", help="each module by itself, too")
    options = parser.parse_args()
    paths = sorted(p for p in options.folder.rglob("*") if p.suffix in KINDS and p.is_file())
    with ProcessPoolExecutor(2) as pool:
        found = [one for one in pool.map(measured, paths) if one]
    for name, scores in found if options.cases else []:
        print(f"{name[-50:]:50}", *(f"{x:.3f}" for values in scores.values() for x in values))
    print(f"{len(found)} modules")
    for who in ("ours", "librosa"):
        means = np.mean([scores[who] for _, scores in found], axis=0)
        right = np.mean([scores[who][0] > 0.95 for _, scores in found])
        print(f"{who:8} F 70 ms, 20 ms{', bar lines' if len(means) > 2 else ''}:", *(f"{x:.3f}" for x in means), end="")
        print(f"; F 70 ms above 0.95 in {right:.2f}")


if __name__ == "__main__":
    main()
