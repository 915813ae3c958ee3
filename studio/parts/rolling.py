"""The roll: some bars of a part on a grid of musical positions, and the edits made there."""

import json

from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_http_methods

from core.following import roll
from core.following.parts import Placed
from core.following.quantise import Grid, quantise
from core.following.roll import RollError
from core.tempomap import TempoMap
from studio.desk.answers import answer
from studio.parts import keeping
from studio.parts.models import Part

STALE = "This part was changed in another window. It is shown as it is now; make your edit again."


def grid_asked(said) -> Grid:
    """The grid that the page has chosen. Raises ``ValueError``."""
    return Grid(float(said.get("grid", 0.25)), bool(said.get("triplet")), float(said.get("swing") or 50))


def shown(part: Part, tempo_map: TempoMap, notes: list[Placed], first: int, bars: int, grid: Grid) -> dict:
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
        q = roll.quarter_of(meters, n) - origin
        if q + n.length > 0 and q < end:
            found.append({"i": i, "q": q, "length": n.length, "pitch": n.pitch, "velocity": n.velocity})
    return {
        "part": part.pk,
        "name": part.name,
        "instrument": part.instrument,
        "rides": part.step.rides,
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


#: name: (words for history, edit(notes, meters, what was said))
EDITS = {
    "add": ("Added a note", lambda n, m, s: roll.add(n, _new(s))),
    "remove": ("Removed notes", lambda n, m, s: roll.remove(n, set(s["notes"]))),
    "move": (
        "Moved notes",
        lambda n, m, s: roll.move(n, m, s["notes"], s["columns"] * grid_asked(s).step, int(s.get("semitones", 0))),
    ),
    "lengthen": (
        "Changed a length",
        lambda n, m, s: roll.lengthen(n, set(s["notes"]), max(0.25, s["columns"]) * grid_asked(s).step),
    ),
    "loudness": ("Changed loudness", lambda n, m, s: roll.loudness(n, set(s["notes"]), int(s["velocity"]))),
    "repeat": ("Repeated bars", lambda n, m, s: roll.repeat(n, int(s["from"]), int(s["to"]), int(s["times"]))),
    "quantise": ("Quantised", lambda n, m, s: _quantised(n, m, s)),
}


def _new(said) -> Placed:
    return Placed(
        int(said["bar"]),
        max(0.0, float(said["offset"])),
        float(said["length"]),
        int(said["pitch"]),
        int(said["velocity"]),
    )


def _quantised(notes, meters, said):
    chosen = set(said.get("notes") or range(len(notes)))
    done = iter(
        quantise(
            [n for i, n in enumerate(notes) if i in chosen],
            meters,
            grid_asked(said),
            float(said.get("strength", 100)) / 100,
            float(said.get("window", 100)) / 100,
            bool(said.get("lengths")),
        )
    )
    return [next(done) if i in chosen else n for i, n in enumerate(notes)]


@require_http_methods(["GET", "POST"])
def the_roll(request, pk):
    """GET: some bars as drawn. POST: an edit (with ``preview``: what it would do), or ``travel``; 409 where another
    window was faster."""
    part = get_object_or_404(
        Part.objects.select_related("session", "session__step", "step", "step__tied_on").defer("session__finding"),
        pk=pk,
    )
    said = request.GET.dict() if request.method == "GET" else json.loads(request.body)
    said["triplet"] = said.get("triplet") in (True, "true")
    tempo_map = part.session.step.tempo_map
    error, status, notes, grid, first, bars = None, 200, None, Grid(0.25), 1, 4
    try:
        first, bars = int(said.get("first", 1)), max(1, min(16, int(said.get("bars", 4))))
        grid = grid_asked(said)
        if request.method == "POST" and "travel" in said:
            keeping.travel(part, int(said["travel"]))
        elif request.method == "POST":
            name, edit = EDITS[said["do"]]
            if said.get("preview"):
                notes = edit(part.step.placed(tempo_map), tempo_map.meters, said)
            else:
                keeping.change(part, name, lambda now: edit(now, tempo_map.meters, said), said.get("step"))
    except keeping.Stale:
        error, status = STALE, 409
    except (RollError, ValueError) as e:
        error, status = str(e), 422
    except (KeyError, TypeError, IndexError):
        error, status = "There is no such edit.", 422
    if notes is None:
        notes = part.step.placed(tempo_map)
    return answer({"error": error, **shown(part, tempo_map, notes, first, bars, grid)}, status=status)
