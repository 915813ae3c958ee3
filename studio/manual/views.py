"""The manual's pages."""

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from studio.manual import book


def _contents() -> dict[str, object]:
    return {
        "stages": [book.page(s) for s in book.STAGES],
        "situations": [book.page(s) for s in book.SITUATIONS],
    }


@require_GET
def page(request: HttpRequest, slug: str = book.STAGES[0]) -> HttpResponse:
    """A page; with ``q``, what is found instead."""
    try:
        context = {**_contents(), "page": book.page(slug)}
    except KeyError:
        raise Http404 from None
    words = request.GET.get("q", "")[:200].strip()
    if words:
        context |= {"words": words, "found": book.search(words)}
    return render(request, "manual/page.html", context)
