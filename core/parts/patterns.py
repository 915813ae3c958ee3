"""Grooves of our own for added drums and percussion, placed bar by bar in whatever meters the map has."""

from __future__ import annotations

from dataclasses import dataclass, field

from core.errors import InputError
from core.instruments.kit import PERCUSSION
from core.notes import ScoreNote
from core.tempomap import Meters

#: General MIDI percussion keys (RP-003) by the names used in the rows below.
KEYS = {"kick": 36, "rim": 37, "snare": 38, "hat": 42, "open": 46, "ride": 51, "crash": 49, "shaker": 70, "low": 45,
        "high": 48}  # fmt: skip
Rows = dict[str, str]


@dataclass(frozen=True)
class Pattern:
    """A bar as rows of strokes: one character a step, ``.`` rest, ``1`` to ``9`` level; ``|`` is only for the eye.

    ``meter``: the bar it is written for; ``swing``: where the off-beat step of each pair falls, in percent of the
    pair (50 even, 66.7 the last triplet).
    """

    name: str
    meter: str
    groove: Rows
    fill: Rows
    words: str
    swing: float = 50.0
    ending: Rows = field(default_factory=lambda: {"kick": "9", "crash": "8"})

    @property
    def quarters(self) -> float:
        upper, lower = self.meter.split("/")
        return sum(int(n) for n in upper.split("+")) * 4 / int(lower)


PATTERNS = {
    p.name: p
    for p in (
        Pattern(
            "Boardwalk", "4/4",
            {"kick": "9...|....|7.5.|....", "snare": "....|8...|....|8..1", "hat": "6.3.|5.3.|6.3.|5.3."},
            {"kick": "9...|....|7...|....", "snare": "....|8..3|..5.|6677", "low": "....|....|...6|..77"},
            "straight eighths, backbeat on 2 and 4",
        ),
        Pattern(
            "Low water", "4/4",
            {"kick": "9...|...5|....|....", "rim": "....|....|8...|....", "hat": "5.3.|4.3.|5.3.|4.34"},
            {"kick": "9...|....|....|....", "rim": "....|....|8...|....", "low": "....|....|..5.|6.77"},
            "half-time, one backbeat a bar",
        ),
        Pattern(
            "Cart track", "4/4",
            {"kick": "9...|6...", "snare": "..8.|..81", "hat": "6464|6464"},
            {"kick": "9...|6...", "snare": "..8.|5678", "low": "....|..67"},
            "shuffle in swung eighths", swing=66.7,
        ),
        Pattern(
            "Plank", "2/4",
            {"kick": "8...|5...", "snare": "..5.|7.45", "shaker": "5354|5354"},
            {"kick": "8...|....", "snare": "5.55|6677"},
            "quick two",
        ),
        Pattern(
            "Ferry", "3/4",
            {"kick": "9...|....|....", "rim": "....|6...|6...", "ride": "5...|4.3.|4.3."},
            {"kick": "9...|....|....", "snare": "....|4.5.|6.7.", "low": "....|....|..67"},
            "waltz",
        ),
        Pattern(
            "Five bells", "5/4",
            {"kick": "9...|....|....|7...|....", "snare": "....|....|7...|....|7...",
             "ride": "5.3.|4.3.|4.3.|5.3.|4.3."},
            {"kick": "9...|....|....|7...|....", "snare": "....|....|7...|5.5.|6677"},
            "three and two",
        ),
        Pattern(
            "Rowing", "6/8",
            {"kick": "9.....|..4...", "snare": "......|8.....", "hat": "5.3.3.|5.3.3."},
            {"kick": "9.....|......", "snare": "......|8.5.67", "low": "....5.|..5..."},
            "two dotted quarters a bar",
        ),
        Pattern(
            "Rope ladder", "2+2+3/8",
            {"kick": "9...|....|7.....", "snare": "....|7...|....6.", "hat": "5.3.|5.3.|5.3.3."},
            {"kick": "9...|....|7.....", "snare": "....|7.4.|5.6.77"},
            "seven as two, two and three",
        ),
        Pattern(
            "Shingle", "4/4",
            {"shaker": "6343|5343|6343|5343"},
            {"shaker": "6343|5343|6455|6677"},
            "a shaker in sixteenths",
        ),
    )
}  # fmt: skip


def pattern_notes(
    pattern: Pattern,
    meters: Meters,
    first: int,
    last: int,
    fill_every: int = 0,
    opening: bool = False,
    ending: bool = False,
) -> list[ScoreNote]:
    """The pattern in bars ``first`` to ``last``: a fill closes every ``fill_every`` bars (0: none), ``opening``
    begins with a bar of its fill and a crash on the next one, ``ending`` makes the last bar a single stroke.

    A bar of another length takes as much of the groove as it holds, or goes round in it again.
    Raises :class:`core.errors.InputError` where the bars do not rise.
    """
    if last < first:
        raise InputError("The last bar lies before the first.")
    out: list[ScoreNote] = []
    for bar in range(first, last + 1):
        count = bar - first + 1
        if ending and bar == last:
            rows = pattern.ending
        elif (opening and bar == first) or (fill_every and count % fill_every == 0):
            rows = pattern.fill
        else:
            rows = pattern.groove
        length = meters.meter_at(bar).quarters
        out += _strokes(rows, pattern, bar, length)
        if opening and bar == first + 1 <= last:
            out.append(_stroke(bar, 0.0, "crash", 8))
    return out


def _strokes(rows: Rows, pattern: Pattern, bar: int, length: float) -> list[ScoreNote]:
    out = []
    for drum, text in rows.items():
        steps = text.replace("|", "")
        step = pattern.quarters / len(steps)
        k = 0
        while k * step < length - 1e-9:
            level = steps[k % len(steps)]
            if level != "." and (len(steps) > 1 or k == 0):
                offset = (k + (k % 2) * (pattern.swing / 50 - 1)) * step
                if offset < length - 1e-9:
                    out.append(_stroke(bar, offset, drum, int(level)))
            k += 1
    return sorted(out, key=lambda n: (n.offset, n.pitch))


def _stroke(bar: int, offset: float, drum: str, level: int) -> ScoreNote:
    return ScoreNote(bar, offset, 0.125, KEYS[drum], min(127, 14 * level), PERCUSSION)
