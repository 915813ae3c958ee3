"""Answers that the page's scripts read: JSON with numpy arrays, and plain bytes."""

import orjson
from django.http import HttpResponse

FOR_EVER = "private, max-age=31536000, immutable"


def answer(data: dict, status: int = 200) -> HttpResponse:
    """JSON that may hold numpy arrays."""
    return HttpResponse(
        orjson.dumps(data, option=orjson.OPT_SERIALIZE_NUMPY), content_type="application/json", status=status
    )


def raw(data: bytes, cache: str = FOR_EVER) -> HttpResponse:
    return HttpResponse(data, content_type="application/octet-stream", headers={"Cache-Control": cache})
