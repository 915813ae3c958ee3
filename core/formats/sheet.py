"""The whole take on one page, for the music stand: bars in rows, their tempo as a line, meters, sections, holds.

One drawing for both formats: SVG (W3C) and PDF (ISO 32000), A4 upright. In PDF, letters that its built-in fonts lack
(those beyond Latin-1) stand as "?".
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from reportlab.graphics import renderPDF, renderSVG
from reportlab.graphics.shapes import ArcPath, Circle, Drawing, Line, PolyLine, String
from reportlab.lib.colors import HexColor

from core.formats.carried.content import Section
from core.tempomap import TempoMap
from core.tempomap.tempo_curve import smooth_tempo, stretch_tempo

#: A4 upright, and the margin around, in points.
WIDTH, HEIGHT, MARGIN = 595.0, 842.0, 40.0
#: Where the rows begin below the top, and what their times and tempos take at either side.
_TOP, _SIDE = 84.0, 44.0
#: Bars a row that are tried: the first of which the rows are at least so high, and no higher than so.
_IN_A_ROW, _LEAST, _MOST = (4, 8, 12, 16, 24, 32), 30.0, 64.0
_INK, _FAINT, _LINE = HexColor("#22262e"), HexColor("#8a8171"), HexColor("#9c2f24")
_SERIF, _ITALIC, _BOLD = "Times-Roman", "Times-Italic", "Times-Bold"


@dataclass(frozen=True)
class Sheet:
    """What is drawn; ``holds``: seconds at which the music is held."""

    title: str
    map: TempoMap
    sections: Sequence[Section] = ()
    holds: Sequence[float] = ()


def svg(sheet: Sheet) -> str:
    """The page as SVG."""
    return str(renderSVG.drawToString(drawing(sheet)))


def pdf(sheet: Sheet) -> bytes:
    """The page as PDF."""
    plain = [Section(s.start, s.end, _latin(s.name)) for s in sheet.sections]
    made = drawing(Sheet(_latin(sheet.title), sheet.map, plain, sheet.holds))
    return bytes(renderPDF.drawToString(made, msg=_latin(sheet.title), autoSize=1))


def drawing(sheet: Sheet) -> Drawing:
    """The page as shapes."""
    tempo_map = sheet.map
    first, last = tempo_map.bar_range
    bars = np.arange(first, last + 1)
    room = HEIGHT - _TOP - MARGIN
    per_row = next((n for n in _IN_A_ROW if np.ceil(len(bars) / n) * _LEAST <= room), _IN_A_ROW[-1])
    rows = [bars[k : k + per_row] for k in range(0, len(bars), per_row)]
    height = min(_MOST, room / max(1, len(rows)))
    page = Drawing(WIDTH, HEIGHT)
    _head(page, sheet, len(bars))
    beats = tempo_map.beats()
    bpm = 60 / np.diff(beats.seconds)
    scale = float(np.percentile(bpm, 2)), float(np.percentile(bpm, 98))
    for k, row in enumerate(rows):
        _row(page, sheet, row, HEIGHT - _TOP - k * height, height, per_row, scale)
    return page


def _head(page: Drawing, sheet: Sheet, bars: int) -> None:
    tempo_map = sheet.map
    page.add(String(MARGIN, HEIGHT - 54, sheet.title, fontName=_SERIF, fontSize=20, fillColor=_INK))
    bpm = 60 / np.diff(tempo_map.beats().seconds)
    slow, fast = np.percentile(bpm, [2, 98])
    pace = f"{tempo_map.average_bpm:.1f}" if fast - slow < 1 else f"{slow:.0f} to {fast:.0f}"
    facts = f"{bars} bars, {tempo_map.meters.meter_at(1)}, {pace} beats a minute"
    page.add(String(MARGIN, HEIGHT - 70, facts, fontName=_ITALIC, fontSize=10, fillColor=_FAINT))


def _row(
    page: Drawing,
    sheet: Sheet,
    bars: NDArray[np.int64],
    top: float,
    height: float,
    per_row: int,
    scale: tuple[float, float],
) -> None:
    """Bars side by side, all of one width; ``top``: of the row; ``scale``: slowest and fastest tempo of the take."""
    tempo_map = sheet.map
    left, width = MARGIN + _SIDE, (WIDTH - 2 * MARGIN - 2 * _SIDE) / per_row
    band, foot = top - 0.36 * height, top - 0.86 * height  # between which the tempo runs
    small = min(9.0, 0.22 * height)
    edges = tempo_map.bar_seconds(np.append(bars, bars[-1] + 1))
    minutes, seconds = divmod(max(0.0, float(edges[0])), 60)
    words = f"{minutes:.0f}:{seconds:04.1f}"
    page.add(String(MARGIN, foot, words, fontName=_ITALIC, fontSize=small, fillColor=_FAINT))
    felt = float(tempo_map.beat_index_at(edges[-1]) - tempo_map.beat_index_at(edges[0]))
    pace = f"{60 * felt / float(edges[-1] - edges[0]):.1f}"
    right = left + len(bars) * width
    page.add(String(right + 6, foot, pace, fontName=_ITALIC, fontSize=small, fillColor=_FAINT))
    page.add(Line(left, foot, right, foot, strokeColor=_FAINT, strokeWidth=0.4))
    for k, bar in enumerate(bars.tolist()):
        x = left + k * width
        page.add(Line(x, foot, x, band, strokeColor=_LINE, strokeWidth=0.8))
        page.add(String(x + 2, band + 1, str(bar), fontName=_BOLD, fontSize=small, fillColor=_INK))
        meter = tempo_map.meters.meter_at(bar)
        if bar != tempo_map.bar_range[0] and meter != tempo_map.meters.meter_at(bar - 1):
            shift = 6 + small * 0.6 * len(str(bar))
            page.add(String(x + shift, band + 1, str(meter), fontName=_ITALIC, fontSize=small, fillColor=_LINE))
    page.add(Line(right, foot, right, band, strokeColor=_LINE, strokeWidth=0.8))

    def x_of(at: float) -> float:
        """Where a time lies in the row: bars are of one width, time within a bar runs evenly."""
        return left + width * float(np.interp(at, edges, np.arange(len(edges))))

    for s in sheet.sections:
        if edges[0] - 1e-6 <= s.start < edges[-1] - 1e-6:
            found = stretch_tempo(tempo_map, s.start, s.end)
            name = f"{s.name}, {found.average:.1f}" if found else s.name
            page.add(String(x_of(s.start) + 2, band + small + 2, name, fontName=_ITALIC, fontSize=small + 1,
                            fillColor=_INK))  # fmt: skip
    for at in sheet.holds:
        if edges[0] <= at < edges[-1]:
            _fermata(page, x_of(at), band - small, small)
    _tempo(page, tempo_map, edges, x_of, (foot, band), scale)


def _tempo(
    page: Drawing,
    tempo_map: TempoMap,
    edges: NDArray[np.float64],
    x_of: Callable[[float], float],
    span: tuple[float, float],
    scale: tuple[float, float],
) -> None:
    """The tempo from beat to beat as a thin line between the heights ``span``, and smooth as a strong one."""
    seconds = tempo_map.beats().seconds
    middles, smooth = smooth_tempo(tempo_map)
    low, high = scale
    foot, band = span
    for at, bpm, colour, width in (
        (seconds[:-1], 60 / np.diff(seconds), _FAINT, 0.5),
        (middles, smooth, _INK, 1.1),
    ):
        inside = (at >= edges[0] - 1e-6) & (at < edges[-1] - 1e-6)
        if inside.sum() < 2:
            continue
        share = np.clip((bpm[inside] - low) / max(high - low, 1.0), -0.1, 1.1)
        y = foot + (0.15 + 0.7 * share) * (band - foot)
        # a row's last tempo holds to its end, the first one of a smooth line from its beginning
        places = [(float(edges[0]), y[0]), *zip(at[inside], y, strict=True), (float(edges[-1]), y[-1])]
        points = [float(value) for place, height in places for value in (x_of(place), height)]
        page.add(PolyLine(points, strokeColor=colour, strokeWidth=width))


def _fermata(page: Drawing, x: float, y: float, size: float) -> None:
    arc = ArcPath(strokeColor=_INK, strokeWidth=0.9, fillColor=None)
    arc.addArc(x, y, size / 2, 0, 180)
    page.add(arc)
    page.add(Circle(x, y + 1, size / 9, fillColor=_INK, strokeColor=None))


def _latin(text: str) -> str:
    return text.encode("latin-1", "replace").decode("latin-1")
