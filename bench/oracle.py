"""The oracle engineer: a scripted user who knows the truth and puts a map right with the page's own commands.

``python -m bench repairs [--takes FOLDER] [--spoiled]``. It always takes the command that puts most right, and counts
them until every beat is within 30 ms and every bar line right. Beside it: how often a doubt's first remedy, taken on the
first map, makes right beats wrong.
"""

from __future__ import annotations

import argparse
import json
import time
import warnings
from collections import defaultdict
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bench.takes import PRACTICE, WITHOUT_DRUMS
from bench.truth import RIGHT, Truth, right_map, spoilings
from core.analysis import Source, analyse_sources
from core.document import Document
from core.document import commands as c
from core.editing import Applied, Contradiction, apply
from core.editing.remedies import trusted
from core.editing.search_options import as_said, search_options
from core.tempomap import TempoMap
from core.tempomap.edits import EditError, pins_of
from core.tracking.beat_tracker import track_beats
from core.tracking.context import NoBeats, build_context
from core.tracking.parameters import USUAL_RANGE
from core.tracking.results import TrackingOptions
from core.tracking.review import review

MOST = 21  # commands, then it gives up: more than 20 is too many anyway
CHEAP = 0.4  # wrong beats that one command less is worth
WAYS = 3  # ways that are followed side by side
HELD = 1.5  # times the usual interval that a held beat lasts
PLACES = 6  # wrong stretches that are looked at before each command


class Analysed:
    """A recording in memory (:class:`core.editing.Recording`)."""

    def __init__(self, tracks, found=None):
        self.tracks, self.found = tracks, found.map if found else None
        self.readings, self._chains = (found.alternatives, found.chains) if found else ([], [])
        self._pieces = found.pieces if found else []
        self._context = build_context(tracks)
        self.seconds = max(len(t.evidence) for t in tracks) / 100

    def context(self):
        return self._context

    def attacks(self, track=None):
        return [t.attacks for t in self.tracks]

    def reading(self, number):
        return (self.readings[number].name, self.readings[number].map) if number < len(self.readings) else None

    def chains(self):
        return self._chains

    def pieces(self):
        return self._pieces


@dataclass(frozen=True)
class FindAgain:
    """Beats found anew, with all that was said so far: the page's own search."""

    def apply(self, document: Document, recording: Analysed) -> Applied:
        searches = [(recording.found, document.map)]
        options = search_options(TrackingOptions(), document, searches, recording.pieces())
        try:
            again = track_beats(recording.tracks, options)
            found = as_said(recording, again.map, document, searches, again.pieces)
        except NoBeats as e:
            raise EditError(str(e)) from None
        return Applied(Document(found, document.statements), "Found again with what was said")


def candidates(
    document: Document, recording: Analysed, truth: Truth
) -> Iterator[c.Command | FindAgain | tuple[c.Command, ...]]:
    """What the engineer would think of: the whole map at another level, then each wrong stretch, then single beats; two
    commands where one alone shows nothing."""
    tempo_map = document.map
    if document.statements or pins_of(tempo_map).any():
        yield FindAgain()
    for ratio in ("1:2", "2:1", "3:2", "2:3", "4:3", "3:4"):
        yield c.Ratio(ratio)
        if ratio == "1:2":
            yield c.Ratio(ratio, others=True)
    for share in (-0.5, 0.5):
        yield c.ShiftByBeats(share)
    for by in (-3, -2, -1, 1, 2, 3):
        yield c.Downbeat(by)
    for number in range(len(recording.readings)):
        yield c.TakeReading(number)
    for meter in ("2/4", "3/4", "4/4", "5/4", "6/8"):
        if meter != tempo_map.meters.meter_at(1).felt:
            yield c.SetMeter(1, meter)
    places = truth.wrong_places(tempo_map)
    bars = truth.downbeats
    longest = sorted(places, key=lambda p: p[0] - p[1])[:PLACES]
    for a, b in dict.fromkeys([*longest, *places[:PLACES]]):
        n = int(np.count_nonzero((bars >= a - 1e-6) & (bars < b - 1e-6)))
        k = int(np.argmin(np.abs(bars - a)))
        yield c.AreBars((a, b), n)
        yield c.AreBars((a, b), n, truth.meter(k, k + n))
        yield c.Redetect((a, b))
        yield c.Settle((a, b), 0.08)
        for ratio in ("1:2", "2:1"):
            yield c.Ratio(ratio, stretch=(a, b))
        k = int(np.argmin(np.abs(bars - a)))
        for one, other in ((k, min(k + 1, len(bars) - 1)), (max(0, k - 1), k)):
            if other > one:
                yield c.AreBars((float(bars[one]), float(bars[other])), other - one)
    gaps = np.diff(truth.beats)
    for k in np.flatnonzero(gaps > HELD * np.median(gaps)).tolist():
        start, end = truth.beats[k : k + 2].tolist()
        if any(a - 0.1 <= end and start <= b + 0.1 for a, b in places):
            yield c.HoldBeat((start, end))
    for a, b in places[:PLACES]:
        k, end = int(np.argmin(np.abs(bars - a))), int(np.argmin(np.abs(bars - b)))
        for many in (1, 2, 4, 8, 16):
            for first in range(k, min(end, k + 4)):
                if first + many <= end:
                    ends = float(bars[first]), float(bars[first + many])
                    yield c.AreBars(ends, many)
                    yield c.AreBars(ends, many, truth.meter(first, first + many))
    for a, b in places[:2]:
        for t in (a, b):
            beat = round(float(tempo_map.beat_index_at(t)))
            yield c.MakeOne(beat)
            yield c.Split(beat)
        bar = int(tempo_map.meters.bars_at(tempo_map.quarters_at(a + 0.05)))
        inside = truth.beats[(truth.beats >= a - 1e-6) & (truth.beats < b - 1e-6)]
        bars_here = max(1, int(np.count_nonzero((bars >= a - 1e-6) & (bars < b - 1e-6))))
        for t in bars[(bars >= a - 1e-6) & (bars <= b + 1e-6)][:2]:
            number = int(np.argmin(np.abs(bars - t))) + 1
            yield c.PlaceAt(float(t), number)
        yield c.Count(max(1, bar), max(1, round(len(inside) / bars_here)))
        yield c.Join(max(1, bar))
    missed = truth.beats[np.abs(truth.beats[:, None] - tempo_map.beats().seconds[None, :]).min(axis=1) > RIGHT]
    for t in missed[:5]:
        beat = round(float(tempo_map.beat_index_at(t)))
        for how in ("beat", "pins", "bend"):
            yield c.Move(beat, float(t), how, free=True)
        yield c.Insert(float(t), free=True)
    found = tempo_map.beats()
    extra = np.abs(found.seconds[:, None] - truth.beats[None, :]).min(axis=1) > RIGHT
    inside = (found.seconds > truth.beats[0] - 0.1) & (found.seconds < truth.beats[-1] + 0.1)
    for beat in found.index[extra & inside][:5].tolist():
        yield c.Remove(beat)
    lines = found.beat == 1
    for k in np.flatnonzero(lines & inside)[:200]:
        if np.abs(truth.downbeats - found.seconds[k]).min() > 0.07 and found.bar[k] > 1:
            yield c.Join(int(found.bar[k]) - 1)
            break
    ends = tempo_map.beats().seconds[[0, -1]]
    for to, end, command in zip(truth.beats[[0, -1]].tolist(), ends.tolist(), (c.Starts, c.Ends), strict=True):
        if abs(end - to) > RIGHT:
            beat = round(float(tempo_map.beat_index_at(to)))
            yield command(beat=beat)
            yield command(beat=beat), c.Move(beat, to, free=True)
    for by in (-3, -2, -1, 1, 2, 3):
        yield c.Ratio("1:2"), c.Downbeat(by)
        yield c.Ratio("2:1"), c.Downbeat(by)


def tried(commands: tuple[c.Command | FindAgain, ...], document: Document, recording: Analysed) -> tuple[Applied, int]:
    """The document after some commands, and their number; one more press takes back what was said against one."""
    cost = 0
    for command in commands:
        if isinstance(command, FindAgain):
            return command.apply(document, recording), cost + 1
        try:
            after, cost = apply(command, document, recording), cost + 1
        except Contradiction:
            after, cost = apply(command, document, recording, overrule=True), cost + 2
        document = after.document
    return after, cost


@dataclass
class Way:
    """A way to put a map right: the document so far, the commands it took, their names, and what is still wrong."""

    document: Document
    actions: int
    told: list[str]
    left: int


def repair(document: Document, recording: Analysed, truth: Truth, told=None) -> int:
    """Commands until all is right; :data:`MOST` where that is never.

    Always the command that puts most right; the :data:`WAYS` best ways are followed side by side, as the one that looks
    best at first may end where nothing helps.
    """
    beats, lines = truth.wrong(document.map)
    ways = [Way(document, 0, [], beats + lines)]
    seen: set[tuple[float, ...]] = set()
    while ways:
        done = [w for w in ways if not w.left]
        if done:
            best = min(done, key=lambda w: w.actions)
            if told is not None:
                told += best.told
            return min(MOST, best.actions)
        ways = sorted(
            (n for w in ways if w.actions < MOST for n in _next(w, recording, truth, seen)),
            key=lambda w: w.left + CHEAP * w.actions,
        )[:WAYS]
    return MOST


def _next(way: Way, recording: Analysed, truth: Truth, seen: set[tuple[float, ...]]) -> Iterator[Way]:
    for command in candidates(way.document, recording, truth):
        try:
            after, cost = tried(command if isinstance(command, tuple) else (command,), way.document, recording)
        except EditError:
            continue
        beats, lines = truth.wrong(after.document.map)
        left = beats + lines
        found = after.document.map.beats()
        same = (*found.seconds.round(3).tolist(), *found.beat.tolist())
        if left <= way.left and same not in seen:
            seen.add(same)
            yield Way(after.document, way.actions + cost, [*way.told, f"{after.name}: {left} left"], left)


def first_remedies(document: Document, recording: Analysed, truth: Truth) -> list[tuple[str, int]]:
    """For each doubt about the first map: its kind, and how many beats that were right its first remedy makes wrong."""
    doubts = review(recording.context(), document.map, USUAL_RANGE, recording.chains(), recording.pieces())[1]
    out = []
    for doubt in trusted(doubts, document, recording, USUAL_RANGE):
        if not doubt.remedies:
            continue
        after = apply(doubt.remedies[0].command, document, recording).document.map
        was = _right(truth.beats, document.map)
        out.append((doubt.kind, int((was & ~_right(truth.beats, after)).sum())))
    return out


def _right(truth: np.ndarray, tempo_map: TempoMap) -> np.ndarray:
    return np.abs(truth[:, None] - tempo_map.beats().seconds[None, :]).min(axis=1) <= RIGHT


def measured_spoiled(folder: Path) -> list[tuple[str, int]]:
    """Commands that put each spoiled map right."""
    warnings.simplefilter("ignore")
    facts = json.loads((folder / "truth.json").read_text())
    downs, beats = np.array(facts["downbeats"]), np.array(facts["beats"])
    truth = Truth(beats[beats >= downs[0] - 1e-3], downs, facts["meters"])
    recording = Analysed(list(analyse_sources([Source(folder / stem, stem) for stem in facts["stems"]])))
    try:
        right = right_map(facts)
    except EditError:
        return []
    return [(name, repair(Document(m), recording, truth)) for name, m in spoilings(right).items()]


def measured(folder: Path) -> dict:
    warnings.simplefilter("ignore")
    facts = json.loads((folder / "truth.json").read_text())
    downs = np.array(facts["downbeats"])
    beats = np.array(facts["beats"])
    truth = Truth(beats[beats >= downs[0] - 1e-3], downs, facts["meters"])
    tracks = list(analyse_sources([Source(folder / stem, stem) for stem in facts["stems"]]))
    found = track_beats(tracks)
    recording = Analysed(tracks, found)
    document = Document(found.map)
    begun = time.perf_counter()
    harms = first_remedies(document, recording, truth)
    tried = time.perf_counter() - begun
    told: list[str] = []
    actions = repair(document, recording, truth, told)
    wrong = truth.wrong(found.map)
    return {
        "name": folder.name,
        "group": facts["group"],
        "minutes": float(beats[-1] - beats[0]) / 60,
        "actions": actions,
        "wrong": wrong,
        "harms": harms,
        "tried": tried,
        "told": told,
    }


def main(arguments: list[str]) -> None:
    ask = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    ask.add_argument("--takes", type=Path, default=PRACTICE, help="a folder of takes, each with its truth.json")
    ask.add_argument("--told", action="store_true", help="what the engineer did, line by line")
    ask.add_argument("--spoiled", action="store_true", help="from ten spoiled maps instead of the first search")
    ask.add_argument("--only", default="", help="takes whose name holds this")
    a = ask.parse_args(arguments)
    folders = sorted(p for p in a.takes.iterdir() if (p / "truth.json").exists() and a.only in p.name)
    if a.spoiled:
        by_kind = defaultdict(list)
        with ProcessPoolExecutor(2) as pool:
            for done in as_completed([pool.submit(measured_spoiled, folder) for folder in folders]):
                for name, actions in done.result():
                    by_kind[name].append(actions)
        for name, counts in by_kind.items():
            print(f"{name:28s} {len(counts):2d} takes: median {np.median(counts):.0f}, worst {max(counts)} actions")
        return
    groups, by_drums, harms = defaultdict(list), defaultdict(list), []
    with ProcessPoolExecutor(2) as pool:
        for done in as_completed([pool.submit(measured, folder) for folder in folders]):
            row = done.result()
            groups[row["group"]].append(row["actions"])
            drums = "without drums" if row["group"] in WITHOUT_DRUMS else "with drums"
            by_drums[drums].append((row["actions"], row["minutes"]))
            harms += row["harms"]
            bad = [h for h in row["harms"] if h[1]]
            print(
                f"{row['name']:12s} {row['actions']:3d} actions from {row['wrong'][0]:4d} wrong beats, {row['wrong'][1]:3d} wrong bar lines; {len(row['harms'])} first remedies, harmful {bad}, tried in {row['tried']:.1f} s",
                flush=True,
            )
            if a.told:
                print("".join(f"    {line}\n" for line in row["told"]), end="")
    for group, counts in sorted(groups.items()):
        print(f"{group:12s} {len(counts):2d} takes: median {np.median(counts):.0f}, worst {max(counts)} actions")
    for drums, rows in sorted(by_drums.items()):
        actions, minutes = np.sum(rows, axis=0)
        print(f"{drums}: {actions:.0f} actions in {minutes:.1f} minutes of music, {actions / minutes:.2f} a minute")
    harmful = [h for h in harms if h[1]]
    print(f"first remedies: {len(harms)}, {len(harmful)} made right beats wrong")
