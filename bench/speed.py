"""Speed and memory of the analysis: against librosa's plain tracker, solving again, and a large session."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import librosa
import numpy as np
import soundfile as sf

from core.analysis import Source, analyse, analyse_sources
from core.demo import boathouse
from core.demo.files import write_tracks
from core.document import BarLine, Document
from core.document import commands as c
from core.editing import apply
from core.editing.obeying import obeying
from core.tempomap import TempoMap
from core.tracking.beat_tracker import track_beats
from core.tracking.context import NoBeats, build_context
from core.tracking.redetect import redetect
from core.tracking.review import review


def commands() -> None:
    """Commands on a map of 1,000 bars, with nothing said and with 20 statements."""
    rng = np.random.default_rng(4)
    tempo_map = TempoMap.from_beats(1 + np.cumsum(rng.uniform(0.45, 0.55, 4000)))
    lines = tempo_map.bar_seconds(np.arange(10, 990, 49))
    said = tuple(BarLine(float(t), 10 + 49 * k) for k, t in enumerate(lines))
    kinds = {"nudge": c.Nudge(2001, 0.004), "insert": c.Insert(float(tempo_map.seconds[2001:2003].mean()), free=True)}
    kinds |= {"bar number": c.Number(1600, 401), "steady": c.Steady((500.0, 520.0))}
    for name, command in kinds.items():
        for words, statements in (("nothing said", ()), (f"{len(said)} statements", said)):
            times = []
            for _ in range(21):
                begun = time.perf_counter()
                apply(command, Document(tempo_map, statements), _Unheard())
                times.append(1000 * (time.perf_counter() - begun))
            print(
                f"{name:12s} on 1,000 bars, {words:14s} median {np.median(times):5.1f} ms, worst {max(times):5.1f} ms"
            )
    begun = time.perf_counter()
    obeying(_Unheard(), Document(tempo_map, said), [float(t) for t in tempo_map.seconds[50:4000:200]])
    print(f"a found map made to obey 20 pins and {len(said)} statements: {1000 * (time.perf_counter() - begun):.0f} ms")


class _Unheard:
    """A recording without evidence (:class:`core.editing.Recording`)."""

    seconds = 2500.0
    found = None

    def context(self):
        raise NoBeats("")

    def attacks(self, track=None):
        return []

    def reading(self, number):
        return None

    def chains(self):
        return []


def _long_tracks(folder: Path, count: int, minutes: float) -> list[Path]:
    """The demo's tracks over and over, as 24-bit WAV files."""
    made = folder / "demo"
    made.mkdir()
    write_tracks(boathouse.perform(), made)
    out = []
    for i, source in enumerate(sorted(made.glob("*.wav"))[:count] * (count // 5 + 1)):
        if i == count:
            break
        x, rate = sf.read(source, dtype="float32")
        if x.ndim > 1:
            x = x.mean(axis=1)
        x = np.tile(x, int(minutes * 60 * rate / len(x)) + 1)[: int(minutes * 60 * rate)]
        out.append(folder / f"track{i}.wav")
        sf.write(out[-1], x, rate, "PCM_24")
    return out


def _ours(files: list[Path]) -> float:
    begun = time.perf_counter()
    analyse([Source(f, f.name) for f in files], threads=2)
    return time.perf_counter() - begun


def _librosa(files: list[Path]) -> float:
    begun = time.perf_counter()
    for f in files:
        y, rate = librosa.load(f, sr=22_050)
        librosa.beat.beat_track(y=y, sr=rate)
    return time.perf_counter() - begun


def _memory(files: list[Path]) -> float:
    """Peak memory of ``diachron map`` on these files, in MB."""
    script = (
        "import resource, sys; from core.cli import main; main();"
        "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, file=sys.stderr)"
    )
    with tempfile.TemporaryDirectory() as out:
        done = subprocess.run(
            [sys.executable, "-c", script, "map", *map(str, files), "--json", f"{out}/map.json"],
            capture_output=True,
            text=True,
            cwd=Path(__file__).resolve().parents[1],
            check=True,
        )
    return float(done.stderr.split()[-1])


def run() -> None:
    commands()
    with tempfile.TemporaryDirectory() as name:
        files = _long_tracks(Path(name), 8, 4)
        players = list(analyse_sources([Source(f, f.name) for f in files], threads=2))
        solved = track_beats(players)  # compiled code is warm now, as in a studio that runs
        _librosa(files[:1])
        ratios = []
        for _ in range(3):
            ours, theirs = _ours(files), _librosa(files)
            ratios.append(ours / theirs)
            print(f"8 tracks of 4 min: ours {ours:5.1f} s, librosa {theirs:5.1f} s, ratio {ratios[-1]:.2f}", flush=True)
        print(f"  median ratio {np.median(ratios):.2f}")
        scene = build_context(players)
        index = solved.map.beats().index
        took = []
        for first in index[8:-40:16]:
            begun = time.perf_counter()
            redetect(scene, solved.map, int(first), int(first) + 24)
            took.append(1000 * (time.perf_counter() - begun))
        print(f"solve 24 beats again: median {np.median(took):.0f} ms, worst {max(took):.0f} ms")
        begun = time.perf_counter()
        review(scene, solved.map)
        print(f"doubts of a whole map again: {time.perf_counter() - begun:.2f} s")
    with tempfile.TemporaryDirectory() as name:
        print(f"24 tracks of 10 min: {_memory(_long_tracks(Path(name), 24, 10)):.0f} MB at most", flush=True)
