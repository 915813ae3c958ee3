"""Reading a map that another program, or we, wrote as beats: CSV and label tracks, JAMS, our own JSON.

A table has a line a beat: its seconds, and where it is known bar and beat. Columns are told by their names, or where
they have none by their order: seconds, bar, beat. A label track has seconds, seconds again (or none), and a label like
``12`` or ``12.3`` (bar and beat). JAMS (Humphrey and others, "JAMS: a JSON annotated music specification", 2014): the
annotation of namespace ``beat``, whose values count the beats of the bar, or ``beat_position``.
"""

from __future__ import annotations

import csv
import json
import math
import re
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import numpy as np

from core.errors import InputError
from core.tempomap import Meters, TempoMap

#: Beats of a map, at most; and seconds between two, at least.
_MOST_BEATS, _LEAST_GAP = 200_000, 0.05
_LABEL = re.compile(r"^\D*(\d+)(?:[.:](\d+))?\b")

T = TypeVar("T")
R = TypeVar("R")
Row = tuple[float, int | None, int | None]


class MapFileError(InputError):
    """A file that holds no map that can be read, in words for the engineer."""


def read_beats(text: str, name: str) -> TempoMap:
    """The map of a text. Raises :class:`MapFileError`."""
    rows = _guarded(_of_json if text.lstrip().startswith("{") else _of_table, text, name)
    if len(rows) < 2:
        raise MapFileError(f"“{name}” holds no list of beats: it needs a line a beat, with its seconds first.")
    if len(rows) > _MOST_BEATS:
        raise MapFileError(f"“{name}” has {len(rows)} beats; {_MOST_BEATS} are the most that can be read.")
    times = np.array([r[0] for r in rows])
    if not np.isfinite(times).all() or (np.diff(times) < _LEAST_GAP).any():
        late = int(np.argmax(~(np.diff(times) >= _LEAST_GAP))) + 2
        raise MapFileError(f"“{name}”: beat {late} does not come after the one before it.")
    return _guarded(_as_map, rows, name)


def _guarded(make: Callable[[T], R], given: T, name: str) -> R:
    try:
        return make(given)
    except (ValueError, KeyError, TypeError, IndexError, AttributeError, OverflowError, RecursionError, csv.Error):
        raise MapFileError(f"“{name}” is not a list of beats that can be read.") from None


# ---- rows


def _of_table(text: str) -> list[Row]:
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
    if not lines:
        return []
    mark = max("\t;,", key=lines[min(1, len(lines) - 1)].count)
    # a comma may also be the decimal mark, where another mark parts the columns
    table = [[c.strip() for c in row] for row in csv.reader(lines, delimiter=mark)]
    named = {c.lower(): k for k, c in enumerate(table[0])} if _number(table[0][0]) is None else {}
    columns = [named.get(n, d) for n, d in (("time", 0), ("bar", 1), ("beat", 2))]
    if named and "bar" not in named:
        columns[1] = -1
    if named and "beat" not in named:
        columns[2] = -1
    rows = table[1:] if named else table
    if not named and any(_is_point(row) for row in rows):  # then the stretches of a label track are no beats
        rows = [row for row in rows if _is_point(row) or not _from_to(row)]
    out: list[Row] = []
    for row in rows:
        seconds = _number(row[columns[0]]) if len(row) > columns[0] else None
        if seconds is None:
            continue
        if not named and _from_to(row):
            out.append((seconds, *_labelled(row[2])))  # a label track: from, to, label
        elif not named and len(row) == 2 and not row[1].isdigit():
            out.append((seconds, *_labelled(row[1])))
        else:
            out.append((seconds, _whole(row, columns[1]), _whole(row, columns[2])))
    return out


def read_stretches(text: str) -> list[tuple[float, float, str]]:
    """The stretches of a label track whose points are beats or bars: from and to in seconds, and the label."""
    table = [[c.strip() for c in line.split("\t")] for line in text.splitlines()]
    if not any(_is_point(row) for row in table):
        return []
    return [(*found, row[2]) for row in table if (found := _stretch(row))]


def _from_to(row: Sequence[str]) -> tuple[float, float] | None:
    """The two times of a row of a label track (from, to, label); None of any other row."""
    if len(row) != 3 or row[1].isdigit():
        return None
    start, end = _number(row[0]), _number(row[1])
    return None if start is None or end is None else (start, end)


def _is_point(row: Sequence[str]) -> bool:
    found = _from_to(row)
    return found is not None and found[0] == found[1]


def _stretch(row: Sequence[str]) -> tuple[float, float] | None:
    found = _from_to(row)
    return found if found and -math.inf < found[0] < found[1] < math.inf else None


def _labelled(label: str) -> tuple[int | None, int | None]:
    found = _LABEL.match(label)
    return (int(found[1]), int(found[2] or 1)) if found else (None, None)


def _of_json(text: str) -> list[Row]:
    data = json.loads(text)
    if "annotations" in data:
        for kind in ("beat_position", "beat"):
            for annotation in data["annotations"]:
                if annotation.get("namespace") == kind:
                    return [_of_jams(x, kind) for x in _observations(annotation["data"])]
        return []
    return [(float(b["time"]), int(b["bar"]), int(b["beat"])) for b in data["beats"]]


def _observations(data: Any) -> Sequence[dict[str, Any]]:
    """A list of observations, also where a file holds them as columns, as files before JAMS 0.3 do."""
    if isinstance(data, dict):
        return [{"time": t, "value": v} for t, v in zip(data["time"], data["value"], strict=True)]
    return list(data)


def _of_jams(observation: dict[str, Any], kind: str) -> Row:
    value = observation["value"]
    if kind == "beat_position":
        return float(observation["time"]), int(value["measure"]), round(float(value["position"]))
    return float(observation["time"]), None, None if value is None else round(float(value))


def _number(text: str) -> float | None:
    try:
        return float(text.replace(",", "."))
    except ValueError:
        return None


def _whole(row: Sequence[str], column: int) -> int | None:
    value = _number(row[column]) if 0 <= column < len(row) and row[column] else None
    return None if value is None or not math.isfinite(value) else round(value)


# ---- the map of rows


def _as_map(rows: Sequence[Row]) -> TempoMap:
    """Bars begin where the beat is 1, or where there are no beats each row is a bar's line; without either 4/4."""
    times = [r[0] for r in rows]
    if all(r[2] is None for r in rows):
        if all(r[1] is None for r in rows):
            return TempoMap.from_beats(times)
        rows = [(t, bar, 1) for t, bar, _ in rows]
    opens = [k for k, r in enumerate(rows) if r[2] == 1]
    if not opens:
        return TempoMap.from_beats(times)
    if len(opens) == len(rows):  # only bar lines are known
        lines = Meters()
        first = float(lines.bar_quarters(rows[0][1] or 1))
        quarters = first + lines.meter_at(1).quarters * np.arange(len(rows))
        return TempoMap(np.array(times), np.asarray(quarters, dtype=np.float64), lines)
    known = rows[opens[0]][1]
    number = 1 if known is None else known
    counts = np.diff([*opens, len(rows)])
    # the last bar may be cut short by the end of the list
    if len(counts) > 1 and counts[-1] < counts[-2]:
        counts[-1] = counts[-2]
    changes = [(number + k, f"{int(c)}/4") for k, c in enumerate(counts) if k == 0 or c != counts[k - 1]]
    # what holds before bar 1 holds in it, where nothing else does
    meters = Meters.of(*{1: changes[0][1], **{max(1, bar): meter for bar, meter in changes}}.items())
    start = round(float(meters.beat_of_quarters(meters.bar_quarters(number))))
    return TempoMap.from_beats(times, start - opens[0], meters)
