"""The roll: some bars of a part on a grid of musical positions, and the edits made there."""

import json
from collections.abc import Callable
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_http_methods

from core.notes import ScoreNote, quarter_of_note
from core.parts import roll
from core.parts.quantise import quantise
from core.parts.roll import RollError
from core.tempomap import Meters, TempoMap
from core.tempomap.note_grid import Grid
from studio.histories import Stale
from studio.parts import part_history
from studio.parts.models import Part
from studio.responses import json_response

STALE = "This part was changed in another window. It is shown as it is now; make your edit again."


def grid_from(params: dict[str, Any]) -> Grid:
    """The grid that the page has chosen. Raises ``ValueError``."""
    return Grid(float(params.get("grid", 0.25)), bool(params.get("triplet")), float(params.get("swing") or 50))


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


#: An edit of notes under the map's meters, with the request's parameters.
RollEdit = Callable[[list[ScoreNote], Meters, dict[str, Any]], list[ScoreNote]]
#: name: (words for history, edit(notes, meters, parameters))
EDITS: dict[str, tuple[str, RollEdit]] = {
    "add": ("Added a note", lambda n, m, s: roll.add(n, _new(s))),
    "remove": ("Removed notes", lambda n, m, s: roll.remove(n, set(s["notes"]))),
    "move": (
        "Moved notes",
        lambda n, m, s: roll.move(n, m, s["notes"], s["columns"] * grid_from(s).step, int(s.get("semitones", 0))),
    ),
    "lengthen": (
        "Changed a length",
        lambda n, m, s: roll.lengthen(n, set(s["notes"]), max(0.25, s["columns"]) * grid_from(s).step),
    ),
    "loudness": ("Changed loudness", lambda n, m, s: roll.loudness(n, set(s["notes"]), int(s["velocity"]))),
    "repeat": ("Repeated bars", lambda n, m, s: roll.repeat(n, int(s["from"]), int(s["to"]), int(s["times"]))),
    "quantise": ("Quantised", lambda n, m, s: _quantised(n, m, s)),
}


def _new(params: dict[str, Any]) -> ScoreNote:
    return ScoreNote(
        int(params["bar"]),
        max(0.0, float(params["offset"])),
        float(params["length"]),
        int(params["pitch"]),
        int(params["velocity"]),
    )


def _quantised(notes: list[ScoreNote], meters: Meters, params: dict[str, Any]) -> list[ScoreNote]:
    chosen = set(params.get("notes") or range(len(notes)))
    done = iter(
        quantise(
            [n for i, n in enumerate(notes) if i in chosen],
            meters,
            grid_from(params),
            float(params.get("strength", 100)) / 100,
            float(params.get("window", 100)) / 100,
            bool(params.get("lengths")),
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
    params: dict[str, Any] = dict(request.GET.items()) if request.method == "GET" else json.loads(request.body)
    params["triplet"] = params.get("triplet") in (True, "true")
    tempo_map = part.session.tempo_map
    error, status, grid, first, bars = None, 200, Grid(0.25), 1, 4
    notes: list[ScoreNote] | None = None
    try:
        first, bars = int(params.get("first", 1)), max(1, min(16, int(params.get("bars", 4))))
        grid = grid_from(params)
        if request.method == "POST":
            name, edit = EDITS[params["do"]]
            if params.get("preview"):
                notes = edit(part.now.score_notes(tempo_map), tempo_map.meters, params)
            else:
                part_history.change(part, name, lambda now: edit(now, tempo_map.meters, params), params.get("step"))
    except Stale:
        error, status = STALE, 409
    except (RollError, ValueError) as e:
        error, status = str(e), 422
    except (KeyError, TypeError, IndexError):
        error, status = "There is no such edit.", 422
    if notes is None:
        notes = part.now.score_notes(tempo_map)
    return json_response({"error": error, **shown(part, tempo_map, notes, first, bars, grid)}, status=status)
