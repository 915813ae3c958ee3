"""Commands: everything the engineer can do to a map, as plain data. :mod:`core.editing` applies them.

Beats are felt-beat indices (0: the downbeat of bar 1), times are seconds of the recording, a ``stretch`` is a pair of
times. ``kind`` names a command where it travels as JSON. To add one: a class here, its function in
:mod:`core.editing`, and its keys and words in the page's list of commands.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias

#: How far an edit of a beat carries: this beat alone; to the pins around it, bent or detected again; all that follow,
#: as they are or stretched; the whole map.
Reach = Literal["beat", "bend", "pins", "onward", "stretch", "whole"]
#: What becomes of the bar lines where the number of beats changes: they stay on their beats, or bars count on as
#: before. None: they stay, unless the sound clearly says otherwise.
Bars = Literal["stay", "count on"]
Stretch: TypeAlias = tuple[float, float]
#: An edit snaps to attacks within so many seconds unless told otherwise.
SNAP_WITHIN = 0.03


# ---- one beat


@dataclass(frozen=True)
class Move:
    """Put a beat at ``to``, on the nearest attack within ``snap_within`` seconds unless ``free``; those of ``track`` (a
    key of the recording's tracks) go first."""

    beat: int
    to: float
    reach: Reach = "beat"
    free: bool = False
    snap_within: float = SNAP_WITHIN
    track: int | None = None
    kind: Literal["move"] = "move"


@dataclass(frozen=True)
class Nudge:
    """Move a beat ``by`` seconds."""

    beat: int
    by: float
    reach: Reach = "beat"
    kind: Literal["nudge"] = "nudge"


@dataclass(frozen=True)
class SetTempo:
    """From this beat to the next at ``bpm`` felt beats a minute: the next beat moves."""

    beat: int
    bpm: float
    reach: Reach = "beat"
    kind: Literal["tempo"] = "tempo"


@dataclass(frozen=True)
class ToAttack:
    """Move a beat to the next attack (``by`` 1) or the one before (-1), of one track or of all; weaker ones than
    ``least`` (0 to 1) do not count."""

    beat: int
    by: Literal[-1, 1]
    reach: Reach = "beat"
    least: float = 0.2
    track: int | None = None
    kind: Literal["to-attack"] = "to-attack"


@dataclass(frozen=True)
class Pin:
    """Pin a beat where it is, or take its pin back."""

    beat: int
    on: bool = True
    kind: Literal["pin"] = "pin"


@dataclass(frozen=True)
class Unpin:
    """Take back all pins in a stretch."""

    stretch: Stretch
    kind: Literal["unpin"] = "unpin"


@dataclass(frozen=True)
class Approve:
    """A stretch is right as it is: its beats become pins."""

    stretch: Stretch
    kind: Literal["approve"] = "approve"


@dataclass(frozen=True)
class Insert:
    """A new, pinned beat at ``to``, snapped like that of :class:`Move`."""

    to: float
    free: bool = False
    snap_within: float = SNAP_WITHIN
    track: int | None = None
    bars: Bars | None = None
    kind: Literal["insert"] = "insert"


@dataclass(frozen=True)
class Remove:
    """Take a beat out."""

    beat: int
    bars: Bars | None = None
    kind: Literal["remove"] = "remove"


@dataclass(frozen=True)
class HoldBeat:
    """Make a stretch one held beat: the beats inside it are removed, and no later search puts any there."""

    stretch: Stretch
    bars: Bars | None = None
    kind: Literal["hold"] = "hold"


@dataclass(frozen=True)
class Free:
    """There are no beats in a stretch: what the map has there is only counted on, and no click sounds."""

    stretch: Stretch
    kind: Literal["free"] = "free"


# ---- bars


@dataclass(frozen=True)
class Downbeat:
    """Move every downbeat ``by`` beats later, of a stretch or of the whole map."""

    by: int
    stretch: Stretch | None = None
    kind: Literal["downbeat"] = "downbeat"


@dataclass(frozen=True)
class MakeOne:
    """A bar starts at this beat, and so all around it, up to the next bar lines that were said or locked."""

    beat: int
    kind: Literal["one"] = "one"


@dataclass(frozen=True)
class Number:
    """This beat opens bar number ``bar``."""

    beat: int
    bar: int
    kind: Literal["number"] = "number"


@dataclass(frozen=True)
class PlaceAt:
    """What sounds at ``at`` (the attack nearest to it within 50 ms) is bar ``bar``, beat ``beat``."""

    at: float
    bar: int
    beat: int = 1
    kind: Literal["place"] = "place"


@dataclass(frozen=True)
class SetMeter:
    """Give ``bar`` (and those after it, unless ``only``) another meter, as :meth:`core.tempomap.Meter.parse` reads."""

    bar: int
    meter: str
    only: bool = False
    kind: Literal["meter"] = "meter"


@dataclass(frozen=True)
class Count:
    """This bar alone has so many beats; bars count on from it."""

    bar: int
    beats: int
    kind: Literal["count"] = "count"


@dataclass(frozen=True)
class Split:
    """A bar starts at this beat: its bar becomes two."""

    beat: int
    kind: Literal["split"] = "split"


@dataclass(frozen=True)
class Join:
    """Make one bar of ``bar`` and the next."""

    bar: int
    kind: Literal["join"] = "join"


@dataclass(frozen=True)
class AreBars:
    """The stretch is so many bars, of ``meter`` or of the one that rules there: its ends become pinned bar lines, its
    beats are detected between them."""

    stretch: Stretch
    bars: int
    meter: str | None = None
    kind: Literal["bars"] = "bars"


# ---- a stretch, or the whole map where none is chosen


@dataclass(frozen=True)
class Redetect:
    """Detect the beats of a stretch again, or those from felt beat ``first`` to ``last``; ``beats``: exactly so
    many."""

    stretch: Stretch | None = None
    first: int | None = None
    last: int | None = None
    beats: int | None = None
    bars: Bars | None = None
    kind: Literal["redetect"] = "redetect"


@dataclass(frozen=True)
class Settle:
    """Move each beat of a stretch to its nearest attack within ``within`` seconds; their number stays."""

    stretch: Stretch | None = None
    within: float = 0.05
    kind: Literal["settle"] = "settle"


@dataclass(frozen=True)
class TakeReading:
    """Take another reading of the whole take, by its place in the list of those offered."""

    number: int
    kind: Literal["reading"] = "reading"


@dataclass(frozen=True)
class Ratio:
    """So many beats where there were so many: 1:2 is half the tempo. Of the old beats those stay that were said to be
    beats or bar lines, else bar 1's own, unless bar 1 is as the search found it and others fit clearly better.
    ``others``: the ones that would be left out first."""

    ratio: str
    others: bool = False
    stretch: Stretch | None = None
    bars: Bars | None = None
    kind: Literal["ratio"] = "ratio"


@dataclass(frozen=True)
class Steady:
    """One tempo, from pin to pin."""

    stretch: Stretch | None = None
    kind: Literal["steady"] = "steady"


@dataclass(frozen=True)
class Smooth:
    """Take the wander out of the tempo."""

    stretch: Stretch | None = None
    kind: Literal["smooth"] = "smooth"


@dataclass(frozen=True)
class Thin:
    """The fewest points that keep every beat within ``within`` seconds."""

    within: float
    stretch: Stretch | None = None
    kind: Literal["thin"] = "thin"


@dataclass(frozen=True)
class PointsEvery:
    """Points at every ``bars`` bar lines only; 0: at every beat."""

    bars: int
    stretch: Stretch | None = None
    kind: Literal["every"] = "every"


@dataclass(frozen=True)
class Shift:
    """Move a stretch, or the whole map, ``by`` seconds."""

    by: float
    stretch: Stretch | None = None
    kind: Literal["shift"] = "shift"


@dataclass(frozen=True)
class ShiftByBeats:
    """Move every beat, of a stretch or of the whole map, by a share of the gap to its neighbour; 0.5: the off-beats
    become the beats."""

    share: float
    stretch: Stretch | None = None
    kind: Literal["offbeat"] = "offbeat"


@dataclass(frozen=True)
class Starts:
    """The mapped music starts at a beat, or at the beat nearest to ``to``."""

    beat: int | None = None
    to: float | None = None
    kind: Literal["starts"] = "starts"


@dataclass(frozen=True)
class Ends:
    """The mapped music ends at a beat, or at the beat nearest to ``to``."""

    beat: int | None = None
    to: float | None = None
    kind: Literal["ends"] = "ends"


@dataclass(frozen=True)
class Tap:
    """Times tapped along: beats, or with ``meter`` bar lines of bars of that meter."""

    taps: tuple[float, ...]
    meter: str | None = None
    bars: Bars | None = None
    kind: Literal["tap"] = "tap"


@dataclass(frozen=True)
class Rough:
    """A tempo that was typed, from a first downbeat ``at`` on, over the whole take."""

    bpm: float
    at: float
    meter: str = "4/4"
    kind: Literal["rough"] = "rough"


Command: TypeAlias = (
    Move
    | Nudge
    | SetTempo
    | ToAttack
    | Pin
    | Unpin
    | Approve
    | Insert
    | Remove
    | HoldBeat
    | Free
    | Downbeat
    | MakeOne
    | Number
    | PlaceAt
    | SetMeter
    | Count
    | Split
    | Join
    | AreBars
    | Redetect
    | Settle
    | TakeReading
    | Ratio
    | Steady
    | Smooth
    | Thin
    | PointsEvery
    | Shift
    | ShiftByBeats
    | Starts
    | Ends
    | Tap
    | Rough
)

#: Commands that may change how many beats lie in a bar.
WithBars = Insert | Remove | HoldBeat | Redetect | Ratio | Tap
