"""The one place where access is checked: every request of a shared studio passes here before its view is called."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any
from urllib.parse import quote

from django.contrib.auth.models import User
from django.db.models import Exists, OuterRef, Q, QuerySet
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseRedirect
from django.urls import reverse

from studio.accounts.actor import Actor, current
from studio.accounts.models import Grant, Level
from studio.accounts.rules import RULES, General, Of, Rule
from studio.actors import actor_name, corrects, scope
from studio.jobs.models import Job
from studio.library.models import Session, Track, Upload
from studio.parts.models import Part
from studio.recording.models import Recording
from studio.responses import answer
from studio.running_order.models import Turn

#: Where the browser's session keeps the grants whose links it has followed.
LINKS = "links"
_READS = ("GET", "HEAD", "OPTIONS")
_LOG_IN = "Log in to go on; nothing is lost."


def actor_of(request: HttpRequest) -> Actor:
    """Who a request comes from."""
    user = request.user if isinstance(request.user, User) else None
    return Actor(user, tuple(request.session.get(LINKS, ())))


def _granted(actor: Actor) -> Q:
    """Grants that are the actor's."""
    own = Q(pk__in=actor.links, user__isnull=True)
    return own | Q(user=actor.user) if actor.user else own


def level_of(actor: Actor, session: int) -> int:
    """What the actor may do with a session: a :class:`Level`, or 0 for nothing."""
    if actor.is_admin:
        return Level.OWN
    found = Grant.objects.filter(_granted(actor), session=session).values_list("level", flat=True)
    return max(found, default=0)


def visible(actor: Actor, level: Level) -> Callable[[QuerySet[Session]], QuerySet[Session]]:
    """Narrows sessions to those at which the actor has at least ``level``."""

    def narrowed(sessions: QuerySet[Session]) -> QuerySet[Session]:
        if actor.is_admin:
            return sessions
        return sessions.filter(Exists(Grant.objects.filter(_granted(actor), session=OuterRef("pk"), level__gte=level)))

    return narrowed


def session_of(of: Of, key: int) -> int | None:
    """Which session the key of an address belongs to."""
    if of == "session":
        return key
    rows: dict[str, Any] = {
        "binned": Session.everything.values_list("pk"),
        "track": Track.everything.values_list("session"),
        "upload": Upload.objects.values_list("session"),
        "part": Part._base_manager.values_list("session"),
        "job": Job._base_manager.values_list("session"),
        "turn": Turn._base_manager.values_list("session"),
        "recording": Recording.objects.values_list("session"),
    }
    found = rows[of].filter(pk=key).first()
    return found[0] if found else None


class Access:
    """Middleware of shared mode: who it is, what they may see, and whether they may do this."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponse]) -> None:
        self.answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        actor = actor_of(request)
        tokens = current.set(actor), actor_name.set(actor.name)
        narrowed = scope.set(visible(actor, Level.OWN))  # until the rule is known
        correcting = corrects.set(False)
        try:
            return self.answer(request)
        finally:
            corrects.reset(correcting)
            scope.reset(narrowed)
            actor_name.reset(tokens[1])
            current.reset(tokens[0])

    def process_view(self, request: HttpRequest, view: Any, args: Any, kwargs: dict[str, Any]) -> HttpResponse | None:
        actor = current.get()
        match = request.resolver_match
        rule = RULES.get(match.url_name or "") if match else None
        if actor is None or rule is None:
            raise Http404
        if isinstance(rule, General):
            scope.set(visible(actor, rule.level))
            return _general(request, actor, rule)
        needed = rule.read if request.method in _READS else rule.write
        scope.set(visible(actor, needed))
        return _of_session(request, actor, rule, kwargs, needed)


def _general(request: HttpRequest, actor: Actor, rule: General) -> HttpResponse | None:
    if rule.who == "anybody" or actor.is_admin:
        return None
    if not actor.user:
        return _to_login(request)
    if rule.who == "admin":
        return _refused(request, "Only an administrator may do this.")
    return None


def _of_session(
    request: HttpRequest, actor: Actor, rule: Rule, kwargs: dict[str, Any], needed: Level
) -> HttpResponse | None:
    session = session_of(rule.of, int(kwargs["pk"]))
    level = level_of(actor, session) if session is not None else 0
    corrects.set(level >= Level.CORRECT)
    if level >= needed:
        return None
    if not level:
        if not actor.user:
            return _to_login(request)
        raise Http404
    label, wanted = Level(level).label, Level(needed).label
    return _refused(request, f"You may {label} here. Ask the session's owner to let you {wanted}.")


def _to_login(request: HttpRequest) -> HttpResponse:
    if request.method == "GET" and "text/html" in request.headers.get("Accept", "") and not _is_part(request):
        return HttpResponseRedirect(f"{reverse('login')}?next={quote(request.get_full_path())}")
    return answer(request, _LOG_IN, 401)


def _refused(request: HttpRequest, words: str) -> HttpResponse:
    return answer(request, words, 403)


def _is_part(request: HttpRequest) -> bool:
    return bool(request.headers.get("HX-Request"))
