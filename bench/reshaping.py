"""How fast the engines are, and what they do to sound: ``python -m bench reshaping``.

Times are against real time, on as many threads as named; memory is the process's own, at its highest.
"""

import resource
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile as sf

from core.reshaping.engines import ENGINES
from core.reshaping.measured import coherence, smear
from core.reshaping.rendering import rendered
from core.reshaping.sources import ArraySource, Together
from core.reshaping.warp import Warp
from core.reshaping.writing import GroupToWrite, TrackToWrite, write_groups

RATE = 48_000


def _music(seconds: float, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Strokes over a chord that changes: samples ``(frames, 1)`` and when the strokes are."""
    rng = np.random.default_rng(seed)
    frames = round(seconds * RATE)
    t = np.arange(frames) / RATE
    x = np.zeros(frames)
    roots = 110 * 2 ** (rng.integers(0, 12, int(seconds // 2) + 1) / 12)
    root = np.repeat(roots, 2 * RATE)[:frames]
    for ratio in (1, 1.26, 1.5, 2):
        x += 0.08 * np.sin(2 * np.pi * np.cumsum(root * ratio) / RATE)
    at = np.arange(0.5, seconds - 0.5, 0.27) + 0.01 * rng.standard_normal(len(np.arange(0.5, seconds - 0.5, 0.27)))
    decay = np.exp(-np.arange(6000) / 1200)
    for a in at:
        i = round(a * RATE)
        x[i : i + 6000] += 0.4 * decay[: len(x[i : i + 6000])] * rng.standard_normal(len(x[i : i + 6000]))
    return (x * (1 + 0.05 * np.sin(t)))[:, None].astype(np.float32), at


def _warp(seconds: float) -> Warp:
    """A tempo that drifts by some 8 %, to a steady one."""
    beats = np.arange(0.0, seconds, 0.55)
    return Warp(beats, np.concatenate([[0], np.cumsum(0.55 * (1 + 0.08 * np.sin(np.arange(len(beats) - 1) / 12)))]))


def engines() -> None:
    x, at = _music(30, 1)
    room = np.roll(x, 480, axis=0) * 0.4
    warp = _warp(30)
    print("engine   times real time   slope of attacks   echo before, dB   close and room, correlation (before)")
    for engine in ENGINES:
        source = ArraySource(x, RATE)
        list(rendered(source, warp, engine, at))  # compiled
        begun = time.perf_counter()
        y = np.concatenate(list(rendered(source, warp, engine, at)))
        speed = 30 / (time.perf_counter() - begun)
        found = smear(source, ArraySource(y, RATE), at, warp)
        pair = Together([source, ArraySource(room, RATE)])
        one, two = pair.split(np.concatenate(list(rendered(pair, warp, engine, at))))
        to = warp.to_target(at)
        now = np.median([coherence(one[round(a * RATE) :][:9600], two[round(a * RATE) :][:9600]) for a in to[2:-4]])
        was = np.median([coherence(x[round(a * RATE) :][:9600], room[round(a * RATE) :][:9600]) for a in at[2:-4]])
        print(f"{engine:8} {speed:10.0f} {found.slope:20.3f} {found.echo_db:17.1f} {now:17.3f} ({was:.3f})")


def a_take(tracks: int = 8, seconds: float = 240.0) -> None:
    """All tracks of a take to files, on two threads."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        groups = []
        for k in range(tracks):
            x, at = _music(seconds, k)
            sf.write(folder / f"{k}.wav", x, RATE)
            writes = (TrackToWrite(folder / f"{k}.wav", folder / f"{k} new.wav"),)
            groups.append(GroupToWrite(writes, _warp(seconds), ("cut", "cut", "blend", "blend", "voice")[k % 5], at))
        begun = time.perf_counter()
        write_groups(groups, "24", threads=2)
        took = time.perf_counter() - begun
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e3
    print(
        f"{tracks} tracks of {seconds:.0f} s: {took:.1f} s, {seconds / took:.1f} times real time; {most:.0f} MB at most"
    )


def main() -> None:
    engines()
    a_take()


if __name__ == "__main__":
    main()
