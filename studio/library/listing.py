"""The page of all sessions as a list that is searched, filtered and sorted, a part of it at a time.

What a map tells of a session (tempo, meter, contour) is kept in the session's row with the step that it was made from,
so that thousands can be listed without reading their maps.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal
from urllib.parse import urlencode

from django.db.models import Count, Exists, F, Max, OuterRef, Q, QuerySet

from studio.jobs.models import Job
from studio.library.models import Session
from studio.library.summary import Summary, read_map, summary_of

#: Sessions that are listed at a time, and maps that are read at most for one listing.
PAGE, MOST_READ = 60, 40
State = Literal["", "check", "sure", "unmapped", "work"]
STATES: dict[State, str] = {
    "": "all",
    "sure": "sure",
    "check": "to check",
    "unmapped": "without a map",
    "work": "at work",
}
#: What a list is sorted by: its name, what the database sorts by, and whether the largest comes first.
SORTS = {
    "touched": ("Last changed", "touched", True),
    "title": ("Session", "title", False),
    "length": ("Length", "length", True),
    "tracks": ("Tracks", "count", True),
    "tempo": ("Tempo", "bpm", False),
    "doubts": ("Doubts", "step__doubts", True),
}


@dataclass(frozen=True)
class Listing:
    """What is asked for: ``words`` in title or tags, a ``state``, a ``tag``, an order, and how many come before."""

    words: str = ""
    state: State = ""
    tag: str = ""
    sort: str = "touched"
    down: bool = True
    start: int = 0

    def address(self, **changes: object) -> str:
        """The query of an address that asks for this, with changes."""
        now = {**self.__dict__, **changes}
        query = {"q": now["words"], "state": now["state"], "tag": now["tag"], "start": now["start"] or ""}
        if now["sort"] != "touched" or now["down"] is not True:
            query |= {"sort": now["sort"], "down": "1" if now["down"] else "0"}
        return "?" + urlencode({k: v for k, v in query.items() if v != ""})


def from_query(query: dict[str, str]) -> Listing:
    """What an address asks for; what it cannot mean counts as not said."""
    state, sort = query.get("state", ""), query.get("sort", "touched")
    sort = sort if sort in SORTS else "touched"
    down = query["down"] == "1" if query.get("down") in ("0", "1") else SORTS[sort][2]
    start = query.get("start", "0")
    return Listing(
        _plain(query.get("q", ""))[:200],
        next((s for s in STATES if s == state), ""),
        _plain(query.get("tag", ""))[:60],
        sort,
        down,
        min(int(start), 10**6) if start.isdecimal() and len(start) < 8 else 0,
    )


def _plain(text: str) -> str:
    """Text as databases take it."""
    return text.replace("\0", "").strip()


def _at_work() -> Exists:
    return Exists(Job.objects.filter(session=OuterRef("pk"), state__in=[Job.State.WAITING, Job.State.RUNNING]))


def _in_state(sessions: QuerySet[Session], state: State) -> QuerySet[Session]:
    if state == "work":
        return sessions.filter(_at_work())
    if state == "unmapped":
        return sessions.filter(~_at_work(), step__isnull=True)
    if state == "check":
        return sessions.filter(step__doubts__gt=0)
    if state == "sure":
        return sessions.filter(step__doubts=0)
    return sessions


def counts() -> dict[State, int]:
    """How many sessions are in each state."""
    return {state: _in_state(Session.objects.all(), state).count() for state in STATES}


def tags() -> list[str]:
    """All tags, by name."""
    found: set[str] = set()
    for text in Session.objects.exclude(tags="").values_list("tags", flat=True).distinct():
        found |= set(text.strip(",").split(","))
    return sorted(found, key=str.lower)


def page(of: Listing) -> tuple[list[Summary], int]:
    """The sessions of one page, and how many there are in all."""
    refresh()
    found = sessions_of(of)
    total = found.count()
    field = SORTS[of.sort][1]
    if field in ("length", "count"):
        found = found.annotate(length=Max("tracks__seconds"), count=Count("tracks"))
    order = F(field).desc(nulls_last=True) if of.down else F(field).asc(nulls_last=True)
    rows = found.order_by(order, "-pk")[of.start : of.start + PAGE]
    listed = rows.select_related("step").defer("step__map", "step__content").prefetch_related("tracks", "jobs")
    return [summary_of(s) for s in listed], total


def sessions_of(of: Listing) -> QuerySet[Session]:
    """All sessions that are asked for, in no order."""
    found = _in_state(Session.objects.all(), of.state)
    for word in of.words.split():
        found = found.filter(Q(title__icontains=word) | Q(tags__icontains=word))
    return found.filter(tags__icontains=f",{of.tag},") if of.tag else found


def refresh() -> None:
    """Read the maps of sessions whose step is not the one that was read last, the latest first."""
    stale = Session.objects.filter(step__isnull=False).exclude(summarised=F("step_id"))
    for session in stale.select_related("step").prefetch_related("tracks")[:MOST_READ]:
        summarise(session)


def summarise(session: Session) -> None:
    """Keep what lists show of a session's map."""
    summary = read_map(session)
    Session.objects.filter(pk=session.pk).update(map_summary=summary, bpm=summary["bpm"], summarised=session.step_id)
