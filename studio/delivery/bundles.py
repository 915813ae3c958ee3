"""Ready bundles: what goes to a player, to another program, to the archive, and what each holds."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from core.audio.naming import stem_of
from core.audio.stems import WIDTHS, Depth
from studio.delivery.content import long_title, plain_title, sections_of
from studio.delivery.documents import DOCUMENTS
from studio.delivery.order_file import order_of
from studio.library.models import Session, Track
from studio.parts.models import Part
from studio.reshaping.files import safe_name

#: The longest count-in, in bars.
MOST_COUNT_IN = 32

Name = Literal["player", "program", "archive", "loops", "order"]


class Wanted(BaseModel):
    """How a bundle is made: ``rate`` (0: the session's), ``depth`` of its samples, ``count_in``: bars of clicks before
    bar 1."""

    model_config = ConfigDict(extra="forbid")

    rate: Literal[0, 44_100, 48_000, 88_200, 96_000] = 0
    depth: Depth = "24"
    count_in: int = Field(default=0, ge=0, le=MOST_COUNT_IN)


@dataclass(frozen=True)
class Bundle:
    """``documents``: keys of :data:`studio.delivery.documents.DOCUMENTS`; ``stems``: each track from zero to the end;
    ``originals``: the files as they came; both with the map inside."""

    name: Name
    title: str
    words: str
    documents: tuple[str, ...] = ()
    mix: bool = False
    click: bool = False
    stems: bool = False
    parts: bool = False
    originals: bool = False
    loops: bool = False
    order: bool = False


BUNDLES: dict[str, Bundle] = {
    b.name: b
    for b in (
        Bundle("player", "For a player", "To practise and play with: the mix, the click, and a chart to read.",
               ("map.pdf", "chart.musicxml", "map.mid"), mix=True, click=True),
        Bundle("program", "For another program", "To go on elsewhere: all tracks from zero and of one length, with the "
               "map inside each; parts one by one.", ("map.mid", "song.mid", "labels.txt"), click=True, stems=True,
               parts=True),
        Bundle("archive", "For the archive", "To keep: the recordings as they came, with the map inside, and the map "
               "in every open format.", ("map.mid", "beats.csv", "labels.txt", "map.jams", "chart.musicxml",
               "chapters.vtt", "map.json"), originals=True),
        Bundle("loops", "Sections as loops", "Each section of the mix, cut on its bar lines.", loops=True),
        Bundle("order", "The running order", "The mix as it is arranged: sections as often and at the pace that you "
               "chose, joined on bar lines, with the map of it.", order=True),
    )
}  # fmt: skip


def folder_of(session: Session) -> Path:
    return session.folder / "bundles"


def key_of(session: Session, bundle: Bundle, wanted: Wanted) -> str:
    """Another one whenever something that goes into the bundle has changed."""
    facts = [session.step_id, session.title, wanted.model_dump_json(), session.click, sections_of(session)]
    facts += [(t.pk, t.name, t.gain, t.muted, t.solo, t.pan) for t in session.tracks.all()]
    facts += list(session.turns.values_list("section__start", "section__end", "times", "pace"))
    facts += list(session.parts.filter(gone=False).values_list("pk", "step_id", "name", "gain", "muted", "solo", "pan"))
    return f"{bundle.name}-{hashlib.sha256(repr(facts).encode()).hexdigest()[:16]}"


def archive_of(session: Session, bundle: Bundle, wanted: Wanted) -> Path:
    """Where the ZIP lies, once it is made."""
    return folder_of(session) / f"{key_of(session, bundle, wanted)}.zip"


def names(session: Session, bundle: Bundle) -> list[str]:
    """The files of a bundle, before they are made."""
    begin, stem = long_title(session), plain_title(session)
    out = [f"{stem} {DOCUMENTS[key].file}" for key in bundle.documents]
    out += [f"{begin}, mix.wav"] * bundle.mix + [f"{begin}, click.wav"] * bundle.click
    if bundle.stems:
        out += [f"tracks/{name}" for name in track_names(session).values()]
    if bundle.parts:
        out += [f"parts/{name}" for name in part_names(session).values()]
    if bundle.originals:
        out += [f"recordings/{name}" for name in original_names(session).values()]
    if bundle.loops:
        out += [f"{name}.wav" for name, _, _ in loops_of(session)]
    if bundle.order:
        out += [f"{stem}, running order.wav", f"{stem}, running order.mid"]
    return out


def needed_bytes(session: Session, bundle: Bundle, wanted: Wanted) -> int:
    """How much room a bundle takes, about."""
    rate, width = wanted.rate or session.sample_rate, WIDTHS[wanted.depth]
    second = rate * width
    channels = 2 * bundle.mix + bundle.click + 2 * len(parts_of(session)) * bundle.parts
    channels += sum(t.channels for t in session.tracks.all()) * bundle.stems
    total = second * session.seconds * channels
    if bundle.originals:
        total += sum(t.source.stat().st_size for t in session.tracks.all() if t.source.exists())
    if bundle.order:
        total += 2 * second * sum(p.seconds for p in order_of(session))
    if bundle.loops:
        tempo_map = session.tempo_map
        for _, first, last in loops_of(session):
            start, end = tempo_map.bar_seconds([first, last + 1]).tolist()
            total += 6 * session.sample_rate * (end - start)
    return round(1.02 * total) + (1 << 20)


def parts_of(session: Session) -> list[Part]:
    """Those that sound in the session."""
    return list(session.parts.filter(gone=False).select_related("step", "step__tied_on"))


def track_names(session: Session) -> dict[Track, str]:
    """A file name for each track; tracks of one name are numbered."""
    out: dict[Track, str] = {}
    for track in session.tracks.all():
        out[track] = safe_name(stem_of(track.name), out.values())
    return out


def original_names(session: Session) -> dict[Track, str]:
    """The same for the files as they came, each with its own ending."""
    endings = {track: Path(track.source_name).suffix for track in session.tracks.all()}
    return {track: f"{Path(name).stem}{endings[track]}" for track, name in track_names(session).items()}


def part_names(session: Session) -> dict[Part, str]:
    """A file name for each part."""
    out: dict[Part, str] = {}
    for part in parts_of(session):
        out[part] = safe_name(part.name, out.values())
    return out


def loops_of(session: Session) -> Iterator[tuple[str, int, int]]:
    """Name, first and last bar of each section."""
    tempo_map = session.tempo_map
    taken: set[str] = set()
    for section in sorted(sections_of(session), key=lambda s: s.start):
        first, last = (
            int(b) for b in tempo_map.meters.bars_at(tempo_map.quarters_at([section.start, section.end - 1e-3]))
        )
        name = safe_name(f"{section.name}, bars {first}-{last}".replace(",", " -"), taken)
        taken.add(name)
        yield Path(name).stem, first, last


# ---- what was asked for


def wanted_of(session: Session, bundle: Bundle) -> Wanted:
    """As the engineer last asked for this bundle."""
    path = folder_of(session) / f"{bundle.name}.json"
    try:
        return Wanted.model_validate_json(path.read_bytes())
    except (OSError, ValueError):
        return Wanted()


def remember(session: Session, bundle: Bundle, wanted: Wanted) -> None:
    folder_of(session).mkdir(parents=True, exist_ok=True)
    (folder_of(session) / f"{bundle.name}.json").write_text(wanted.model_dump_json(), encoding="utf-8")
