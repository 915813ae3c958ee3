"""A take for a machine that does not see its files: they go there by content, and what is written comes back so."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from tempfile import TemporaryDirectory

from core.batch import work
from core.batch.rules import Rule
from core.batch.takes import OUTCOME, Take
from core.batch.work import Outcome


@dataclass(frozen=True)
class SentTake:
    """A take as it is sent: its ``name`` and ``rule``, its ``key`` where it comes from, its files by name."""

    name: str
    rule: Rule
    key: str
    files: dict[str, bytes]


@dataclass(frozen=True)
class Brought:
    """What comes back: the outcome, what was written by its path below the folder of outputs, and tracebacks."""

    outcome: Outcome
    written: dict[str, bytes]
    log: str


def pack(take: Take, write: tuple[str, ...]) -> SentTake:
    """A take with its files' contents. Raises ``OSError``."""
    return SentTake(take.name, take.rule, take.key(write), {f.name: f.read_bytes() for f in take.files})


def do(sent: SentTake, write: tuple[str, ...]) -> Brought:
    """Analyse a take that was sent, in a folder that is gone afterwards."""
    with TemporaryDirectory(prefix="diachron") as place:
        inside, out = Path(place, "in"), Path(place, "out")
        inside.mkdir()
        out.mkdir()
        for name, content in sent.files.items():
            (inside / name).write_bytes(content)
        take = Take(sent.name, tuple(inside / name for name in sent.files), sent.rule)
        outcome = work.do(take, write, out, sent.key)
        log = out / work.LOG
        log_text = log.read_text(encoding="utf-8") if log.exists() else ""
        written = {p.relative_to(out).as_posix(): p.read_bytes() for p in out.rglob("*") if p.is_file() and p != log}
    return Brought(outcome, written, log_text)


def unpack(brought: Brought, take: Take, out: Path) -> Outcome:
    """Write down what came back, the outcome last."""
    outcome = replace(brought.outcome, files=tuple(map(str, take.files)))
    if brought.log:
        with (out / work.LOG).open("a", encoding="utf-8") as log:
            log.write(brought.log)
    for name, content in brought.written.items():
        if not name.endswith(OUTCOME):
            path = out / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content)
    work.keep(outcome, out)
    return outcome
