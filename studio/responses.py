"""Responses that the page's scripts read: JSON with numpy arrays, and plain bytes."""

from typing import Any

import orjson
from django.http import HttpResponse

FOR_EVER = "private, max-age=31536000, immutable"


def json_response(data: dict[str, Any], status: int = 200) -> HttpResponse:
    """JSON that may hold numpy arrays."""
    return HttpResponse(
        orjson.dumps(data, option=orjson.OPT_SERIALIZE_NUMPY), content_type="application/json", status=status
    )


def bytes_response(data: bytes, cache: str = FOR_EVER) -> HttpResponse:
    return HttpResponse(data, content_type="application/octet-stream", headers={"Cache-Control": cache})
