"""Responses that the page's scripts read (JSON with numpy arrays, plain bytes), and a page for what cannot be done."""

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
