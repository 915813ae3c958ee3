"""What was fitted on and what was not, side by side: ``python -m bench.unseen [--only TEXT] [--cases]``.

*fit*: made-up takes that the constants are fitted on (``build/fit``, see ``training/README.md``). *evaluation*: made-up
takes of other pieces and other sounds (``build/evaluation``). *surrounded*: those with talk, applause or silence around
the music; *two pieces*: those with another piece after it; *changing*: those with another meter or another tempo from
some bar on. *practice* and *real*: the folders beside the project, first and second half of the practice takes apart;
the real recordings have to be fetched by their own script first. Beside the real ones stand the stored answers of the
best published tracker.
"""

import argparse
import json
import warnings
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import mir_eval
import numpy as np

from bench import reliability
from bench.reliability import Pieces, in_music
from bench.takes import PRACTICE, WITHOUT_DRUMS
from core.analysis import Source, analyse_sources
from core.listening.track import AnalysedTrack
from core.tracking.beat_tracker import track_beats
from training.takes import CHANGING, SURROUNDED, TWO_PIECES, read

SHARED = PRACTICE.parent
REAL = SHARED / "real"
#: The practice takes that an earlier version was fitted to.
SEEN = "alone_a alone_b alone_c alone_d band_a band_b band_c band_d band_e machine_a meter_a meter_b meter_c sparse_a"
#: What is made differently in takes from a number on.
_MADE = {SURROUNDED: ", surrounded", TWO_PIECES: ", two pieces", CHANGING: ", changing"}


@dataclass
class Case:
    """Where a take lies, how it is analysed ("tracks" or "mix"), and its group."""

    name: str
    group: str
    place: Path
    kind: str = "tracks"


def cases(work: Path) -> list[Case]:
    out = []
    for group in ("fit", "evaluation"):
        for path in sorted(Path("build", group).glob("*.npz")):
            number = int(path.stem)
            first = max((k for k in _MADE if k <= number), default=0)
            told = group + _MADE.get(first, "")
            out += [Case(f"{path.stem} {kind}", f"{told}, {kind}", path, kind) for kind in ("tracks", "mix")]
    for folder in sorted(PRACTICE.glob("*/")):
        half = "first half" if folder.name in SEEN.split() else "second half"
        out.append(Case(folder.name, f"practice, {half}", folder))
    for path in sorted((REAL / "truth").glob("*.json")):
        truth = json.loads(path.read_text())
        if (work / "x").exists():
            out.append(Case(path.stem, f"real {truth['group']}", path))
            if len(truth["files"]) > 1:
                out.append(Case(f"{path.stem} mix", f"real {truth['group']}, mix", path, "mix"))
    return out


def taken(case: Case, work: Path) -> tuple[list[AnalysedTrack], np.ndarray, np.ndarray, Pieces, str]:
    """Players, true beats and downbeats, where the music lies, and what more the group's name should say."""
    if case.place.suffix == ".npz":
        take = read(case.place)
        drums = ", drums" if take.drums else ", no drums"
        if int(take.name) >= CHANGING:
            drums = f", {take.source.rpartition(', ')[2]}{drums}"
        return take.tracks if case.kind == "tracks" else take.mix, take.beats, take.downbeats, take.pieces, drums
    if case.place.is_dir():
        truth = json.loads((case.place / "truth.json").read_text())
        files = [case.place / stem for stem in truth["stems"]]
        beats, downs = np.array(truth["beats"]), np.array(truth["downbeats"])
        beats, more = (
            beats[beats >= downs[0] - 0.001],
            ", no drums" if truth["group"] in WITHOUT_DRUMS else ", drums",
        )
    else:
        truth = json.loads(case.place.read_text())
        files = [work / "x" / f for f in truth["files"]]
        mix = work / "data" / case.place.stem / "mix.wav"
        files = [mix] if case.kind == "mix" or len(files) == 1 else files
        beats, downs, more = np.array(truth["beats"]), np.array(truth["downbeats"]), ""
    reference = beats if len(beats) else downs
    pieces = [(float(reference[0]), float(reference[-1]))]
    return list(analyse_sources([Source(f, f.name) for f in files])), beats, downs, pieces, more


def f_measure(truth: np.ndarray, found: np.ndarray, window: float = 0.07) -> float:
    return float(mir_eval.beat.f_measure(truth, found, window)) if len(truth) and len(found) else 0.0


def scores(
    beats: np.ndarray, downs: np.ndarray, pieces: Pieces, found: np.ndarray, bars: np.ndarray
) -> dict[str, float]:
    """F of beats within 70 and 20 ms and of downbeats, in each piece from the first true beat (or bar line) to the
    last."""
    found, bars = (in_music(x, pieces) for x in (found, bars))
    out = {}
    if len(beats):
        out |= {"F70": f_measure(beats, found), "F20": f_measure(beats, found, 0.02)}
    if len(downs):
        out["down"] = f_measure(downs, bars)
    return out


def measured(job: tuple[Case, Path]) -> tuple[Case, dict] | None:
    case, work = job
    warnings.simplefilter("ignore")
    players, beats, downs, pieces, more = taken(case, work)
    try:
        solution = reliability.reviewed(players, track_beats(players))
    except ValueError:
        return None
    case.group += more
    found = solution.map.beats()
    out = scores(beats, downs, pieces, found.seconds, found.seconds[found.beat == 1])
    if len(beats):
        out["beats"] = reliability.doubts(solution, beats, pieces)
        inside = np.isin(found.seconds, in_music(found.seconds, pieces))
        right = reliability.rightness(found.seconds[inside], beats)
        out["sure"] = list(zip(solution.confidence[inside].tolist(), right.tolist(), strict=True))
    if len(downs):
        out["bar lines"] = reliability.bar_doubts(solution, downs, pieces)
    return case, out


def published(name: str) -> list[tuple[str, dict]]:
    """Stored answers of the published tracker, for one real recording."""
    truth = json.loads((REAL / "truth" / f"{name}.json").read_text())
    out = []
    for folder in sorted((REAL / "predictions").glob("*/")):
        path = folder / f"{name}.json"
        if path.exists():
            answer = json.loads(path.read_text())
            found, bars = np.array(answer["beats"]), np.array(answer.get("downbeats", []))
            beats, downs = np.array(truth["beats"]), np.array(truth["downbeats"])
            music = [tuple((beats if len(beats) else downs)[[0, -1]].tolist())]
            out.append((folder.name, scores(beats, downs, music, found, bars)))
    return out


def line(name: str, rows: list[dict]) -> str:
    cells = []
    for k in ("F70", "F20", "down"):
        own = [r[k] for r in rows if k in r]
        cells.append(f"{np.mean(own):6.3f}" if own else "     -")
    words = []
    for what in ("beats", "bar lines"):
        if told := [r[what] for r in rows if what in r]:
            caught, wrong, real, doubts = np.sum(told, axis=0)
            words.append(f"{what}: {caught}/{wrong} wrong in a doubt, {real}/{doubts} doubts real")
    return f"{name:44s}{len(rows):4d} {' '.join(cells)}   {'; '.join(words)}"


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    ask.add_argument("--only", default="", help="groups whose name holds this")
    ask.add_argument("--cases", action="store_true", help="every take on a line of its own")
    ask.add_argument(
        "--work", type=Path, default=Path("/tmp/real_bench"), help="where the real recordings were fetched to"
    )
    a = ask.parse_args()
    jobs = [(c, a.work) for c in cases(a.work) if a.only in c.group]
    groups, sure = defaultdict(list), defaultdict(list)
    with ProcessPoolExecutor(2) as pool:
        for done in pool.map(measured, jobs):
            if done:
                case, row = done
                groups[case.group].append(row)
                sure[case.group.split()[0].rstrip(",")] += row.get("sure", [])
                if a.cases:
                    print(line(f"  {case.name}", [row]), flush=True)
    print(f"{'':48s}   F70    F20   down")
    for group, rows in sorted(groups.items()):
        print(line(group, rows))
    theirs = defaultdict(list)
    for case, _ in jobs:
        if case.place.suffix == ".json" and case.kind == "tracks":
            for who, row in published(case.name):
                theirs[f"{case.group}: {who}"].append(row)
    for group, rows in sorted(theirs.items()):
        print(line(group, rows)[:72])
    for kind, pairs in sorted(sure.items()):
        print(f"\nconfidence, {kind}")
        reliability.curve(pairs)


if __name__ == "__main__":
    main()
