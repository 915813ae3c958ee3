"""What the Reshape stage shows."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
from django.db.models import Q

from core.reshaping.conform import steady_bpm
from core.reshaping.cost import GENTLE, cost
from core.reshaping.engines import ENGINES
from core.reshaping.groups import suggest_groups
from core.reshaping.plan import Placement, Reshaping, Tightening
from core.tempomap.position import position_at
from studio.analysis.features import analysed, attacks
from studio.library.map_uploads import ACCEPT
from studio.library.models import Session, Track
from studio.reshaping.files import files_of, is_ready, report_of
from studio.reshaping.requests import VALUES
from studio.reshaping.result import Result, engine_of, result_of
from studio.reshaping.takes_pane import takes_context, track_takes_context
from studio.reshaping.wanted import wanted_of
from studio.reshaping.work import Writing, needed_and_free, writing_of


def pane_context(session: Session) -> dict[str, Any]:
    """What the Reshape stage shows of a session that has a map."""
    wanted = wanted_of(session)
    tracks = list(session.tracks.filter(analysed=True))
    names = {t.pk: t.name for t in tracks}
    result = result_of(session)
    bpm = steady_bpm(session.tempo_map)
    writing = writing_of(session)
    return {
        "tracks": [_row(wanted, t, names) for t in tracks],
        "values": [(key, words) for key, (words, _) in VALUES.items()],
        "engines": ENGINES,
        "tightenings": [_tightening(session, t, names) for t in wanted.tightenings],
        "placements": [_placement(p, names) for p in wanted.placements],
        "moves": [
            {"key": m.key, "name": names.get(m.tracks[0], "?"), "ms": 1000 * (m.target - m.attack)}
            for m in wanted.attack_moves
        ],
        "hushes": [
            {
                "key": h.key,
                "name": names.get(h.track, "?"),
                "where": _where(session, h.start, h.end),
                "how": "silent" if h.gain_db <= -100 else f"{h.gain_db:g} dB",
            }
            for h in wanted.hushes
        ],
        "conform": wanted.conform,
        "endings": ACCEPT,
        "takes": takes_context(session, wanted.conform, result),
        "followings": [track_takes_context(session, f, names, result) for f in wanted.followings] if result else [],
        "possible": Session.objects.exclude(pk=session.pk)
        .filter(Q(tracks__analysed=True) | Q(step__isnull=False))
        .distinct(),
        "kind": wanted.conform.kind if wanted.conform else "none",
        "drift": round(100 * wanted.conform.drift) if wanted.conform else 100,
        "jitter": round(100 * wanted.conform.jitter) if wanted.conform else 0,
        "bpm": bpm,
        "typed": wanted.conform.bpm if wanted.conform and wanted.conform.kind == "tempo" else round(bpm),
        "others": Session.objects.exclude(pk=session.pk).filter(step__isnull=False),
        "groups": [", ".join(names[t] for t in g if t in names) for g in wanted.groups],
        "suggested": None if wanted.groups else _suggested(session),
        "cost": _cost(session, result) if result else None,
        "ready": bool(result and is_ready(session, result.key)),
        "files": files_of(session, result.key) if result and is_ready(session, result.key) else [],
        "measured": _measured(session, result) if result else [],
        "writing": writing,
        "space": _space(result, writing) if result else None,
        "gentle": GENTLE,
    }


def _placement(placed: Placement, names: dict[int, str]) -> dict[str, Any]:
    way = "later" if placed.seconds >= 0 else "earlier"
    return {
        "key": placed.key,
        "names": ", ".join(names.get(t, "?") for t in placed.tracks),
        "by": f"{abs(placed.seconds):.3f} s {way}",
    }


def _space(result: Result, writing: Writing) -> dict[str, float]:
    needed, free = needed_and_free(result, writing)
    return {"needed": needed / 1e6, "free": free / 1e9, "is_enough": needed <= free}


def _measured(session: Session, result: Result) -> list[dict[str, Any]]:
    """What was measured of the written tracks, as it is shown."""
    rows = []
    for m in report_of(session, result.key):
        echo = m["smear"]["echo_db"]
        rows.append(
            {
                "name": m["file"],
                "slope": 100 * m["smear"]["slope"],
                "echo": None if echo < _INAUDIBLE else echo,
                "level": m["level_db"],
                "in_phase": m["in_phase"],
                "in_phase_before": m["in_phase_before"],
            }
        )
    return rows


#: Decibels under the attack at which what sounds before it is covered (common practice).
_INAUDIBLE = -60


def _row(wanted: Reshaping, track: Track, names: dict[int, str]) -> dict[str, Any]:
    members = [t for t in wanted.together([track.pk]) if t in names]
    group = list(track.session.tracks.filter(pk__in=members))
    found = engine_of(wanted, group)
    return {
        "id": track.pk,
        "name": track.name,
        "engine": found.engine,
        "chosen": track.pk in wanted.engines,
        "reason": found.reason,
    }


def _tightening(session: Session, one: Tightening, names: dict[int, str]) -> dict[str, Any]:
    how = one.how
    value = next((k for k, (_, g) in VALUES.items() if g is not None and how.grid and g.step == how.grid.step), "auto")
    toward = {"grid": f"the grid ({VALUES[value][0]})", "average": "its own average"}.get(how.target)
    return {
        "key": one.key,
        "names": ", ".join(names.get(t, "?") for t in one.tracks),
        "where": _where(session, how.start, how.end),
        "start": how.start,
        "end": how.end,
        "toward": toward or names.get(one.other or 0, "?"),
        "amount": round(100 * how.amount),
    }


def _where(session: Session, start: float, end: float) -> str:
    a, b = (position_at(session.tempo_map, t) for t in (start, end))
    return f"bar {a.bar} to {b.bar}" if a.bar != b.bar else f"bar {a.bar}"


def _suggested(session: Session) -> list[tuple[str, str]]:
    """Groups of tracks that seem to be one instrument: their keys as JSON, and their names."""
    tracks = list(session.tracks.filter(analysed=True))
    found = [(t, a) for t in tracks if (a := analysed(t)) is not None]
    groups = suggest_groups([a for _, a in found])
    return [(json.dumps([found[i][0].pk for i in g]), ", ".join(found[i][0].name for i in g)) for g in groups]


#: Pieces of the strip that shows how much is stretched where.
_STRIP = 240


def _cost(session: Session, result: Result) -> dict[str, Any]:
    """Numbers of the cost report, and the strip: share of stretch for each piece of the take."""
    rows = []
    for group in result.groups:
        for pk in group.tracks:
            track = result.tracks[pk]
            found = cost(group.warp, attacks(track).seconds, track.seconds, around=result.plan.clock)
            rows.append({"name": track.name, "largest": found.largest, "moved": found.moved, "engine": group.engine})
    clock = result.plan.clock
    whole = cost(clock, np.zeros(0), session.seconds)
    edges = np.linspace(0, session.seconds, _STRIP + 1)
    stretch = np.diff(clock.to_target(edges)) / np.diff(edges)
    worst = [
        {"bar": position_at(session.tempo_map, p.start).bar, "start": p.start, "stretch": p.stretch, "warns": p.warns}
        for p in whole.worst
        if abs(p.stretch - 1) > 1e-3
    ]
    return {
        "rows": rows,
        "strip": [{"x": i, "height": _height(s), "kind": _kind(s)} for i, s in enumerate(stretch.tolist())],
        "worst": worst,
        "seconds": result.seconds,
        "bpm": steady_bpm(result.map),
        "conforms": result.plan.conformed is not None,
    }


def _height(stretch: float) -> float:
    """How far a stretch is from none, 0 to 1; doubling and halving fill the strip."""
    return round(min(1.0, abs(float(np.log2(stretch)))), 3)


def _kind(stretch: float) -> str:
    if not GENTLE[0] <= stretch <= GENTLE[1]:
        return "far"
    return "longer" if stretch >= 1 else "shorter"
