"""Constants that are fitted, not chosen: ``fitted.json``, written by ``training/fit.py`` (see ``training/README.md``).

Each group is what one decision weighs, by the names of what it looks at:

- *hypotheses*: what each number of a tempo hypothesis is worth (:mod:`core.beats.hypothesis`)
- *downbeats*, *bars*, *meters*: evidence for bar lines, and what a division into bars is worth (:mod:`core.beats.bars`)
- *confidence*: log-odds that a beat is right (:mod:`core.beats.certainty`)
- *level*, *bar lines*, *windows of bars*: log-odds that the tempo, every bar line, the bar lines of some bars are wrong
  (:mod:`core.beats.whole_take`, :mod:`core.beats.doubts`)
"""

from __future__ import annotations

import json
from pathlib import Path

PATH = Path(__file__).with_name("fitted.json")


def fitted(group: str) -> dict[str, float]:
    """The constants of one group by name."""
    groups: dict[str, dict[str, float]] = json.loads(PATH.read_text(encoding="utf-8"))
    return groups[group]


def keep(group: str, constants: dict[str, float]) -> None:
    """Write a group anew; for ``training/fit.py``."""
    groups = json.loads(PATH.read_text(encoding="utf-8"))
    groups[group] = {name: round(float(value), 4) for name, value in constants.items()}
    PATH.write_text(json.dumps(groups, indent=1) + "\n", encoding="utf-8")
