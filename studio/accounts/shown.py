"""What every page knows of whoever looks at it."""

from typing import Any

from django.conf import settings
from django.http import HttpRequest

from studio.accounts.access import level_of
from studio.accounts.actor import current
from studio.accounts.models import Level

#: Views of a session that show what the person may do with it.
_OF_A_SESSION = ("desk", "panel")


def access(request: HttpRequest) -> dict[str, Any]:
    """Template context: ``access`` with the actor's ``name``, and of a session's page its ``level``; empty in local
    mode."""
    actor = current.get()
    if not settings.SHARED or actor is None:
        return {"access": {}}
    match = request.resolver_match
    level = level_of(actor, int(match.kwargs["pk"])) if match and match.url_name in _OF_A_SESSION else 0
    words = Level(level).label if level and level < Level.CORRECT else ""
    return {
        "access": {
            "user": actor.user,
            "name": actor.name,
            "admin": actor.is_admin,
            "limited": words,
            "fetches": level >= Level.DELIVER,
            "owns": level == Level.OWN,
        }
    }
