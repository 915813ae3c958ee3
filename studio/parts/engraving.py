"""MusicXML to a picture of notes, by Verovio (LGPL)."""

import threading
from functools import cache
from pathlib import Path

import verovio

from studio.caches import remembered

_SCALE = 36
_ONE_AT_A_TIME = threading.Lock()


@cache  # the one engraver, some 20 MB
def _toolkit() -> verovio.toolkit:
    verovio.enableLog(verovio.LOG_OFF)
    toolkit = verovio.toolkit(False)
    # the path the package sets for itself holds only in the thread that imported it
    toolkit.setResourcePath(str(Path(verovio.__file__).parent / "data"))
    return toolkit


@remembered(32)  # some 50 kB each
def engraved(document: str, width: int, seed: int) -> str:
    """An SVG ``width`` pixels wide, as high as the music needs. ``seed`` keeps the ids of two pictures on one page
    apart. Raises ``ValueError`` on what is no MusicXML."""
    with _ONE_AT_A_TIME:
        toolkit = _toolkit()
        toolkit.setOptions(
            {
                "scale": _SCALE,
                "pageWidth": round(width * 100 / _SCALE),
                "pageHeight": 60_000,
                "adjustPageHeight": True,
                "breaks": "auto",
                "header": "none",
                "footer": "none",
                "pageMarginLeft": 20,
                "pageMarginRight": 20,
                "pageMarginTop": 40,
                "spacingNonLinear": 0.55,
                "svgViewBox": True,
                "xmlIdSeed": seed,
            }
        )
        if not toolkit.loadData(document):
            raise ValueError("The notation cannot be engraved.")
        return toolkit.renderToSVG(1)
