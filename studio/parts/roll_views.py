"""The roll: some bars of a part on a grid of musical positions, and the edits made there."""

from collections.abc import Callable
from typing import Any, Literal

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_http_methods
from pydantic import Field

from core.errors import InputError
from core.notes import MOST_NOTES, ScoreNote, quarter_of_note
from core.parts import roll
from core.parts.quantise import quantise
from core.parts.roll import LONGEST, RollError
from core.tempomap import Meters, TempoMap
from core.tempomap.note_grid import Grid
from studio.histories import Stale
from studio.inputs import Bar, Body, Key, read_body, read_form
from studio.parts import part_history
from studio.parts.models import Part
from studio.responses import json_response

STALE = "This part was changed in another window. It is shown as it is now; make your edit again."


class RollRequest(Body):
    """Which bars are shown in which grid, and what is to be done (``do``; ``preview``: only shown) with which notes, by
    their places in the part; ``step``: what the page shows of the part."""

    first: Bar = 1
    bars: int = Field(4, ge=1, le=16)
    grid: float = 0.25
    triplet: bool = False
    swing: float = 50
    step: Key | None = None
    do: Literal["add", "remove", "move", "lengthen", "loudness", "repeat", "quantise"] | None = None
    preview: bool = False
    notes: list[Key] = Field([], max_length=MOST_NOTES)
    columns: float = Field(0, ge=-100_000, le=100_000)
    semitones: int = Field(0, ge=-127, le=127)
    velocity: int = Field(100, ge=-1000, le=1000)
    since: Bar = Field(1, alias="from")
    to: Bar = 1
    times: int = Field(1, ge=1, le=1000)
    bar: Bar = 1
    offset: float = Field(0, ge=-LONGEST, le=LONGEST)
    length: float = 0.25
    pitch: int = Field(60, ge=-1000, le=1000)
    strength: float = Field(100, ge=0, le=100)
    window: float = Field(100, ge=0, le=100)
    lengths: bool = False

    @property
    def in_grid(self) -> Grid:
        """Raises :class:`core.errors.InputError`."""
        return Grid(self.grid, self.triplet, self.swing)


def shown(part: Part, tempo_map: TempoMap, notes: list[ScoreNote], first: int, bars: int, grid: Grid) -> dict[str, Any]:
    """Bars ``first`` on as drawn: positions in quarters from the first line, columns of the grid with their seconds.

    Notes carry their places in the part, by which edits name them.
    """
    meters = tempo_map.meters
    origin = float(meters.bar_quarters(first))
    end = float(meters.bar_quarters(first + bars)) - origin
    columns = []
    for bar in range(first, first + bars):
        line, meter = float(meters.bar_quarters(bar)), meters.meter_at(bar)
        beats = {round(float(b), 6) for b in meter.beat_offsets[:-1]}
        for offset in grid.places(meter.quarters)[:-1].tolist():
            kind = "bar" if offset == 0 else "beat" if round(offset, 6) in beats else "step"
            columns.append({"bar": bar, "offset": offset, "q": line + offset - origin, "kind": kind})
    seconds = tempo_map.seconds_at([origin + c["q"] for c in columns] + [origin + end])
    found = []
    for i, n in enumerate(notes):
        q = quarter_of_note(meters, n) - origin
        if q + n.length > 0 and q < end:
            found.append({"i": i, "q": q, "length": n.length, "pitch": n.pitch, "velocity": n.velocity})
    return {
        "part": part.pk,
        "name": part.name,
        "instrument": part.instrument,
        "rides": part.now.rides,
        "step": part.step_id,
        "first": first,
        "last": tempo_map.bar_range[1],
        "bars": bars,
        "end": end,
        "grid": grid.step,
        "columns": columns,
        "seconds": seconds,
        "notes": found,
        "slices": part.beats,
        "pitches": sorted({n.pitch for n in notes}),
    }


#: An edit of notes under the map's meters, with what was asked for.
RollEdit = Callable[[list[ScoreNote], Meters, RollRequest], list[ScoreNote]]
#: name: (words for history, edit(notes, meters, request))
EDITS: dict[str, tuple[str, RollEdit]] = {
    "add": ("Added a note", lambda n, m, r: roll.add(n, _new(r))),
    "remove": ("Removed notes", lambda n, m, r: roll.remove(n, set(r.notes))),
    "move": ("Moved notes", lambda n, m, r: roll.move(n, m, r.notes, r.columns * r.in_grid.step, r.semitones)),
    "lengthen": (
        "Changed a length",
        lambda n, m, r: roll.lengthen(n, set(r.notes), max(0.25, r.columns) * r.in_grid.step),
    ),
    "loudness": ("Changed loudness", lambda n, m, r: roll.loudness(n, set(r.notes), r.velocity)),
    "repeat": ("Repeated bars", lambda n, m, r: roll.repeat(n, r.since, r.to, r.times)),
    "quantise": ("Quantised", lambda n, m, r: _quantised(n, m, r)),
}


def _new(arguments: RollRequest) -> ScoreNote:
    return ScoreNote(arguments.bar, max(0.0, arguments.offset), arguments.length, arguments.pitch, arguments.velocity)


def _quantised(notes: list[ScoreNote], meters: Meters, arguments: RollRequest) -> list[ScoreNote]:
    chosen = set(arguments.notes or range(len(notes)))
    done = iter(
        quantise(
            [n for i, n in enumerate(notes) if i in chosen],
            meters,
            arguments.in_grid,
            arguments.strength / 100,
            arguments.window / 100,
            arguments.lengths,
        )
    )
    return [next(done) if i in chosen else n for i, n in enumerate(notes)]


@require_http_methods(["GET", "POST"])
def the_roll(request: HttpRequest, pk: int) -> HttpResponse:
    """GET: some bars as drawn. POST: an edit (with ``preview``: what it would do); 409 where another window was
    faster."""
    part = get_object_or_404(
        Part.objects.select_related("session", "session__step", "step", "step__tied_on"),
        pk=pk,
    )
    arguments = read_form(request.GET, RollRequest) if request.method == "GET" else read_body(request, RollRequest)
    tempo_map = part.session.tempo_map
    error, status, grid = None, 200, Grid(0.25)
    notes: list[ScoreNote] | None = None
    try:
        grid = arguments.in_grid
        if request.method == "POST":
            if arguments.do is None:
                raise RollError("There is no such edit.")
            name, edit = EDITS[arguments.do]
            if arguments.preview:
                notes = edit(part.now.score_notes(tempo_map), tempo_map.meters, arguments)
                roll.validate(notes)
            else:
                part_history.change(part, name, lambda now: edit(now, tempo_map.meters, arguments), arguments.step)
    except Stale:
        error, status = STALE, 409
    except InputError as e:
        error, status, notes = str(e), 422, None
    if notes is None:
        notes = part.now.score_notes(tempo_map)
    shapes = shown(part, tempo_map, notes, arguments.first, arguments.bars, grid)
    return json_response({"error": error, **shapes}, status=status)
