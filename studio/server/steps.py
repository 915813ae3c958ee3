"""Every response tells the page which step of the history it made, if any."""

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse

from studio.histories import recorded


def steps_told(answer: Callable[[HttpRequest], HttpResponse]) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware: ``X-Step-Before`` and ``X-Step`` name the session's steps before and after the request."""

    def with_step(request: HttpRequest) -> HttpResponse:
        recorded.set(None)
        response = answer(request)
        made = recorded.get()
        if made:
            response["X-Step-Before"], response["X-Step"] = (str(x) for x in made)
        return response

    return with_step
