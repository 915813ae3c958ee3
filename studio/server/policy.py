"""What the page's browser may load and run: everything from here, scripts only from files."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse

#: Content Security Policy (W3C, level 3). Styles may be inline: engraved notation carries its own.
_POLICY = "; ".join(
    [
        "default-src 'self'",
        "script-src 'self'",
        "style-src 'self' 'unsafe-inline'",
        "img-src 'self' data: blob:",
        "media-src 'self' blob:",
        "object-src 'none'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    ]
)


def content_policy(answer: Callable[[HttpRequest], HttpResponse]) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware: the policy on every page, and nothing told to other sites."""

    def with_policy(request: HttpRequest) -> HttpResponse:
        response = answer(request)
        if response.get("Content-Type", "").startswith("text/html"):
            response["Content-Security-Policy"] = _POLICY
        return response

    return with_policy
