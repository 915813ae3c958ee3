"""What a batch found, for the morning after: the takes that need an ear first. As a page, as CSV, and as JSON."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from dataclasses import asdict
from html import escape
from pathlib import Path
from urllib.parse import quote

from core.batch.work import Outcome

_STYLE = """
body { font: 15px/1.5 system-ui, sans-serif; max-width: 70rem; margin: 2rem auto; padding: 0 1rem; color: #26221d;
  background: #faf7f2; }
h1 { font-size: 1.5rem; margin: 0; } p { margin: 0.3rem 0 1.2rem; }
table { border-collapse: collapse; width: 100%; } th, td { text-align: left; padding: 0.35rem 0.6rem;
  border-bottom: 1px solid #e3dccf; vertical-align: top; } td.n, th.n { text-align: right;
  font-variant-numeric: tabular-nums; } tr.check td:first-child { border-left: 4px solid #b4541a; }
tr.failed td:first-child { border-left: 4px solid #8b1e2d; } tr.sure td:first-child { border-left: 4px solid #3f7a4b; }
small { color: #6b6257; }
@media (prefers-color-scheme: dark) { body { background: #1d1a17; color: #ece5da; } th, td { border-color: #3a342d; }
  small { color: #a89d8d; } a { color: #e0a877; } }
"""


def ordered(outcomes: Sequence[Outcome]) -> list[Outcome]:
    """What needs an ear most comes first."""
    return sorted(outcomes, key=lambda o: (o.sure, -o.need, o.name.lower()))


def summary(outcomes: Sequence[Outcome]) -> str:
    """Like "388 sure, 12 to check, 1 without a map"."""
    failed = sum(bool(o.error) for o in outcomes)
    sure = sum(o.sure for o in outcomes)
    words = [f"{sure} sure", f"{len(outcomes) - sure - failed} to check"]
    return ", ".join(words + ([f"{failed} without a map"] if failed else []))


def write(outcomes: Sequence[Outcome], out: Path) -> Path:
    """``report.html``, ``report.csv`` and ``report.json``; returns the page."""
    rows = ordered(outcomes)
    _whole(out / "report.json", json.dumps([asdict(o) | {"sure": o.sure} for o in rows], indent=1, ensure_ascii=False))
    _whole(out / "report.csv", _csv(rows))
    page = out / "report.html"
    _whole(page, _page(rows))
    return page


def _whole(path: Path, text: str) -> None:
    partial = path.with_name(path.name + ".partial")
    partial.write_text(text, encoding="utf-8", newline="")
    partial.replace(path)


def _csv(rows: Sequence[Outcome]) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(
        ["name", "state", "bpm", "meter", "bars", "first_beat", "seconds", "doubts", "confidence", "reason"]
    )
    for o in rows:
        numbers = [f"{o.bpm:.3f}", o.meter, o.bars, f"{o.first_beat:.6f}", f"{o.seconds:.3f}", o.doubts]
        writer.writerow([o.name, _state(o), *numbers, f"{o.confidence:.3f}", o.error or o.reason])
    return out.getvalue()


def _state(o: Outcome) -> str:
    return "failed" if o.error else "sure" if o.sure else "check"


def _page(rows: Sequence[Outcome]) -> str:
    heads = "<th>Take<th>What to listen for" + "".join(
        f'<th class="n">{h}' for h in ("Tempo", "Meter", "Bars", "Doubts", "Confidence")
    )
    lines = []
    for o in rows:
        name = escape(o.name)
        link = f'<a href="{quote(o.written)}/">{name}</a>' if o.written else name
        words = escape(o.error or o.reason or ("" if o.sure else "Nobody marks its beats clearly."))
        cells = ["–"] * 5 if o.error else [f"{o.bpm:.1f}", o.meter, o.bars, o.doubts, f"{o.confidence:.0%}"]
        numbers = "".join(f'<td class="n">{c}' for c in cells)
        lines.append(f'<tr class="{_state(o)}"><td>{link}<td><small>{words}</small>{numbers}</tr>')
    table = f"<table><thead><tr>{heads}</tr></thead><tbody>{''.join(lines)}</tbody></table>"
    head = f"<h1>{len(rows)} take{'s' * (len(rows) != 1)}</h1><p>{summary(rows)}.</p>"
    begin = '<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">'
    return f"{begin}<title>{summary(rows)}</title><style>{_STYLE}</style><body>{head}{table}</body></html>\n"
