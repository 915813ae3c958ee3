"""How well and how fast beats are found, beside the reference library's beat tracker on the same files."""

import time
import warnings
from collections import defaultdict

import librosa
import mir_eval
import numpy as np

from bench import reliability
from bench.takes import Take
from core.analysis import Source, analyse


def _inside(times, take):
    """Scored from the first downbeat to the last beat."""
    return times[(times >= take.beats[0] - 0.07) & (times <= take.beats[-1] + 0.07)]


def _scores(take: Take, beats, downs) -> dict:
    beats, downs = _inside(np.asarray(beats), take), _inside(np.asarray(downs), take)
    nan = float("nan")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        _, cmlt, _, amlt = mir_eval.beat.continuity(take.beats, beats) if len(beats) > 1 else (0, 0, 0, 0)
        f = {w: mir_eval.beat.f_measure(take.beats, beats, w / 1000) if len(beats) else 0.0 for w in (70, 20, 10)}
        down = mir_eval.beat.f_measure(take.downbeats, downs) if len(downs) else nan
    errors = np.abs(beats[None, :] - take.beats[:, None]).min(axis=1) if len(beats) else np.array([nan])
    near = errors[errors < 0.07]
    return {
        "F70": f[70],
        "F20": f[20],
        "F10": f[10],
        "CMLt": cmlt,
        "AMLt": amlt,
        "down": down,
        "ms": 1000 * float(np.median(near)) if len(near) else nan,
        "runs": _runs(take, beats, f[70]),
    }


def _runs(take: Take, beats, f70: float) -> int:
    """Corrections needed: runs of wrong beats; half or double of the whole counts once."""
    if f70 < 0.8 and len(beats) > 4:
        for other in (beats[::2], beats[1::2], np.sort(np.concatenate([beats, (beats[1:] + beats[:-1]) / 2]))):
            if mir_eval.beat.f_measure(take.beats, other) > 0.9:
                return 1
    wrong = (
        np.abs(beats[None, :] - take.beats[:, None]).min(axis=1) if len(beats) else np.full(len(take.beats), 9)
    ) > 0.07
    return int(wrong[0]) + int((np.diff(wrong.astype(int)) == 1).sum())


def reference(take: Take) -> tuple[dict, float, float]:
    """librosa's plain beat tracker: on each file for speed, on the sum of all for quality."""
    audio = [f for f in take.files if f.suffix != ".mid"]
    total, wall, cpu = None, time.perf_counter(), time.process_time()
    for path in audio:
        y, rate = librosa.load(path, sr=22_050)
        librosa.beat.beat_track(y=y, sr=rate)
    wall, cpu = time.perf_counter() - wall, time.process_time() - cpu
    for path in audio:
        y, rate = librosa.load(path, sr=22_050)
        total = y if total is None else total[: len(y)] + y[: len(total)]
    beats = librosa.beat.beat_track(y=total, sr=rate, units="time")[1] if total is not None else np.zeros(0)
    return _scores(take, beats, np.zeros(0)), wall, cpu


def ours(take: Take) -> tuple[dict, float, float]:
    wall, cpu = time.perf_counter(), time.process_time()
    solution = analyse([Source(f, f.name) for f in take.files], threads=2).result
    wall, cpu = time.perf_counter() - wall, time.process_time() - cpu
    beats = solution.map.beats()
    scores = _scores(take, beats.seconds, beats.seconds[beats.beat == 1])
    scores["doubts"] = reliability.doubts(solution, take.beats, [(take.beats[0], take.beats[-1])])
    inside = (beats.seconds > take.beats[0] - 0.07) & (beats.seconds < take.beats[-1] + 0.07)
    right = reliability.rightness(beats.seconds[inside], take.beats)
    scores["sure"] = list(zip(solution.confidence[inside].tolist(), right.tolist(), strict=True))
    return scores, wall, cpu


COLUMNS = ("F70", "F20", "F10", "CMLt", "AMLt", "down", "ms", "runs")


def _line(name: str, s: dict, more: str = "") -> str:
    return (
        f"{name:26s}" + " ".join(f"{s[c]:6.3f}" if c not in ("ms", "runs") else f"{s[c]:6.1f}" for c in COLUMNS) + more
    )


def run(takes: list[Take]) -> None:
    ours(takes[0])  # compiled once before anything is timed
    librosa.beat.beat_track(y=np.random.default_rng(0).standard_normal(44_100).astype(np.float32), sr=22_050)
    print(f"{'':26s}" + " ".join(f"{c:>6s}" for c in COLUMNS) + "   CPU s (reference)   wall ratio")
    groups, theirs, ratios = defaultdict(list), defaultdict(list), []
    told, sure, done = np.zeros(4, dtype=int), [], []
    for take in takes:
        mine, wall, cpu = ours(take)
        label = take.name + ("" if take.seen else " *")
        if any(f.suffix != ".mid" for f in take.files):
            their, their_wall, their_cpu = reference(take)
            ratios.append(wall / their_wall)
            theirs[take.group].append(their)
            more = f"   {cpu:6.1f} ({their_cpu:6.1f})   {wall / their_wall:.2f}"
        else:
            more = f"   {cpu:6.1f}"
        groups[take.group].append(mine)
        done.append((take, mine))
        told += mine["doubts"]
        sure += mine["sure"]
        print(_line(label[:26], mine, more), flush=True)
    print(
        "\nby group, ours and below it the reference (sum of all tracks)      * second half: unseen until the tempo level was worked on"
    )
    for group, rows in sorted(groups.items()):
        print(_line(group, {c: float(np.nanmean([r[c] for r in rows])) for c in COLUMNS}))
        if theirs[group]:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                print(_line("", {c: float(np.nanmean([r[c] for r in theirs[group]])) for c in COLUMNS}))
    unseen = [m for t, m in done if not t.seen]
    if unseen:
        print(_line("the second half", {c: float(np.nanmean([r[c] for r in unseen])) for c in COLUMNS}))
    if ratios:
        print(f"\nanalysis wall time against the reference: median {np.median(ratios):.2f}, worst {max(ratios):.2f}")
    print(f"doubts: {told[0]} of {told[1]} wrong places lie in one; {told[2]} of {told[3]} doubts about beats are real")
    reliability.curve(sure)
