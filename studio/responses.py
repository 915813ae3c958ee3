"""Responses to the page's scripts (JSON with numpy arrays, plain bytes), and sentences that say what cannot be done."""

from http import HTTPStatus
from typing import Any

import orjson
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

FOR_EVER = "private, max-age=31536000, immutable"


def json_response(data: dict[str, Any], status: int = 200) -> HttpResponse:
    """JSON that may hold numpy arrays."""
    return HttpResponse(
        orjson.dumps(data, option=orjson.OPT_SERIALIZE_NUMPY), content_type="application/json", status=status
    )


def bytes_response(data: bytes, cache: str = FOR_EVER) -> HttpResponse:
    return HttpResponse(data, content_type="application/octet-stream", headers={"Cache-Control": cache})


def failure_page(request: HttpRequest, words: str, status: int) -> HttpResponse:
    """A sentence as a page of its own."""
    context = {"words": words, "status": status, "phrase": HTTPStatus(status).phrase}
    return render(request, "failure.html", context, status=status)


def answer(request: HttpRequest, words: str, status: int) -> HttpResponse:
    """A sentence as a page, as plain text for a form that stays, or as JSON for a script."""
    if request.headers.get("HX-Request"):
        # 422 is for panes that come back with their error in them; this is a note, and the pane stays
        return HttpResponse(words, status=400 if status == 422 else status, content_type="text/plain; charset=utf-8")
    if "text/html" in request.headers.get("Accept", ""):
        return failure_page(request, words, status)
    return json_response({"error": words}, status=status)
