"""Named versions of the map, and how they differ."""

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET, require_POST

from studio.inputs import Body, Key, read_body
from studio.library.models import Session
from studio.responses import json_response


class Version(Body):
    step: Key | None = None
    name: str = ""


@require_POST
def name_version(request: HttpRequest, pk: int) -> HttpResponse:
    """Give the current step (or ``step``) a name to find it by, or with an empty name forget it."""
    session = get_object_or_404(Session, pk=pk)
    arguments = read_body(request, Version)
    step = get_object_or_404(session.steps, pk=arguments.step or session.step_id)
    step.version = arguments.name.strip()[:100]
    step.save(update_fields=["version"])
    return json_response({"ok": True})


@require_GET
def compare(request: HttpRequest, pk: int, step: int) -> HttpResponse:
    """How another step's beats differ: for each beat of the current map the distance to the nearest beat there."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    other = get_object_or_404(session.steps, pk=step)
    here, there = session.tempo_map.beats().seconds, other.tempo_map.beats().seconds
    j = np.clip(np.searchsorted(there, here), 1, len(there) - 1)
    off = np.where(here - there[j - 1] < there[j] - here, there[j - 1], there[j]) - here
    return json_response(
        {
            "name": other.version or other.name,
            "time": here.round(6),
            "ms": (1000 * off).round(3),
            "beats": [len(here), len(there)],
        }
    )
