"""What is answered where a request fails: a sentence in the form that was asked for, and a reference to the log."""

from __future__ import annotations

import logging
import secrets
import sys
from collections.abc import Callable

from django.db import OperationalError, connection
from django.http import HttpRequest, HttpResponse

from studio.inputs import DAMAGED, BadInput
from studio.library.models import NoMap
from studio.responses import answer

log = logging.getLogger("studio")

#: What the database reports: what is said, and the status.
DISK = {
    "full": ("The disk is full. Nothing was changed; free some space and try again.", 507),
    "disk I/O": ("The disk does not do what it should. Nothing was changed; look at the disk, then try again.", 507),
    "readonly": ("Diachron may not write to its data folder. Nothing was changed.", 507),
    "locked": ("The database is busy. Nothing was changed; try again in a moment.", 503),
}
MISSING = "There is no such page, or it was removed."
FORBIDDEN = "This page was open for too long, or in another browser. Load it again; nothing is lost."
BUG = "Something went wrong inside Diachron; nothing was changed. The log has the details under {}."


class Refusals:
    """Middleware: requests that mean nothing are answered with their sentence."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponse]) -> None:
        self.answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        return self.answer(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        if isinstance(error, BadInput):
            return answer(request, str(error), error.status)
        if isinstance(error, NoMap):
            return answer(request, str(error), 409)
        if isinstance(error, OperationalError):
            log.error("the database: %s", error)
            connection.close()
            return next((answer(request, *answered) for words, answered in DISK.items() if words in str(error)), None)
        return None


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    log.warning("bad request: %s %s: %s", request.method, request.path, exception)
    return answer(request, DAMAGED, 400)


def forbidden(request: HttpRequest, exception: Exception | None = None, reason: str = "") -> HttpResponse:
    """Also where the token against forged requests is missing or old."""
    return answer(request, FORBIDDEN, 403)


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    return answer(request, MISSING, 404)


def failed(request: HttpRequest) -> HttpResponse:
    """A bug: logged with its traceback under a reference that the answer names."""
    reference = secrets.token_hex(4)
    log.error("failure %s: %s %s", reference, request.method, request.path, exc_info=sys.exc_info())
    return answer(request, BUG.format(reference), 500)
