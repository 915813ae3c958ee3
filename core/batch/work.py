"""One performance of a batch: from its files to its outputs, and what is to be said of it."""

from __future__ import annotations

import hashlib
import json
import traceback
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from core.analysis import AnalysisError, Source, analyse
from core.audio import AudioError
from core.batch.outputs import WRITERS, Found
from core.batch.takes import OUTCOME, Take
from core.formats.smf import MidiError
from core.tracking import NoBeats
from core.tracking.doubts.doubt import LISTEN

#: Where tracebacks of our own errors go.
LOG = "batch.log"
#: With so much confidence in the median, and no doubt to listen to, a take needs no ear.
_SURE = 0.9


@dataclass(frozen=True)
class Outcome:
    """What came of a take.

    Attributes
    ----------
    name, key
        Of the take (:class:`core.batch.takes.Take`).
    error
        The message to show if no map was made; empty if one was.
    bpm, first_beat, seconds, bars, meter
        The median felt tempo; seconds of bar 1; length of the take; number of bars; the main meter.
    doubts
        How many places are to be listened to, and the reason of the first.
    confidence
        The median of its beats.
    files, written
        What was read, and the folder of what was written.
    """

    name: str
    key: str
    error: str = ""
    bpm: float = 0.0
    first_beat: float = 0.0
    seconds: float = 0.0
    bars: int = 0
    meter: str = ""
    doubts: int = 0
    reason: str = ""
    confidence: float = 0.0
    files: tuple[str, ...] = ()
    written: str = ""

    @property
    def sure(self) -> bool:
        """Whether nobody has to listen to it."""
        return not self.error and not self.doubts and self.confidence >= _SURE

    @property
    def need(self) -> float:
        """How much it needs an ear: what failed first, then doubts a minute and missing confidence."""
        if self.error:
            return 1000.0
        return self.doubts / max(1.0, self.seconds / 60) + 10 * max(0.0, _SURE - self.confidence)


def do(take: Take, write: tuple[str, ...], out: Path, key: str = "") -> Outcome:
    """Analyse a take and write its outputs; whatever is wrong with its files becomes its outcome.

    Files of the same names are replaced, others are left alone; ``outcome.json`` is written last, as a whole.
    ``key``: where it is not the take's own.
    """
    folder = out / place_of(take.name)
    key = key or take.key(write)
    try:
        outcome = _analysed(take, key, write, folder)
    except (AnalysisError, AudioError, MidiError, NoBeats, OSError) as e:
        outcome = Outcome(take.name, key, error=str(e), files=tuple(map(str, take.files)))
    except Exception:
        # one bad file never stops the others; whoever runs the batch finds the traceback beside its report
        with (out / LOG).open("a", encoding="utf-8") as log:
            log.write(f"{take.name}\n{traceback.format_exc()}\n")
        words = f"An error in Diachron itself; its traceback is in {LOG}."
        outcome = Outcome(take.name, key, error=words, files=tuple(map(str, take.files)))
    keep(outcome, out)
    return outcome


def keep(outcome: Outcome, out: Path) -> None:
    """Write an outcome into its take's folder, as a whole."""
    folder = out / place_of(outcome.name)
    folder.mkdir(parents=True, exist_ok=True)
    partial = folder / f"{OUTCOME}.partial"
    partial.write_text(json.dumps(asdict(outcome), indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    partial.replace(folder / OUTCOME)


def _analysed(take: Take, key: str, write: tuple[str, ...], folder: Path) -> Outcome:
    names = [f.name for f in take.files]
    sources = [Source(f, name) for f, name in zip(take.files, names, strict=True)]
    analysis = analyse(sources, take.rule.options_for(names))
    result = analysis.result
    folder.mkdir(parents=True, exist_ok=True)
    found = Found(Path(take.name).name, take.files, analysis.seconds, result)
    for what in write:
        WRITERS[what](found, folder)
    doubts = [d for d in result.doubts if d.severity >= LISTEN]
    tempo_map = result.map
    first, last = tempo_map.bar_range
    return Outcome(
        take.name,
        key,
        bpm=tempo_map.median_bpm,
        first_beat=float(tempo_map.bar_seconds(1)),
        seconds=analysis.seconds,
        bars=last - max(1, first) + 1,
        meter=str(tempo_map.meters.meter_at(1)),
        doubts=len(doubts),
        reason=doubts[0].reason if doubts else "",
        confidence=float(np.median(result.confidence)),
        files=tuple(map(str, take.files)),
        written=place_of(take.name).as_posix(),
    )


def place_of(name: str) -> Path:
    """A take's folder among the outputs: its name, with what some file systems refuse replaced."""

    def plain(part: str) -> str:
        kept = "".join(c if c.isalnum() or c in " -_.()+,'" else "_" for c in part).strip(" .")[:100]
        return kept if kept == part else f"{kept} {hashlib.sha256(part.encode()).hexdigest()[:6]}".strip()

    return Path(*map(plain, name.split("/")))


def earlier(take: Take, write: tuple[str, ...], out: Path) -> Outcome | None:
    """What an earlier run found, where files and rules are still the same."""
    path = out / place_of(take.name) / OUTCOME
    try:
        data: dict[str, Any] = json.loads(path.read_text(encoding="utf-8"))
        data["files"] = tuple(data["files"])
        outcome = Outcome(**data)
        return outcome if outcome.key == take.key(write) else None
    except (OSError, ValueError, TypeError, KeyError):
        return None
