"""Finding what an address names."""

from django.shortcuts import get_object_or_404

from studio.library.models import Session


def with_map(pk: int, *related: str) -> Session:
    """A session that has a map, with its current step and what else is ``related``; 404 otherwise."""
    return get_object_or_404(Session.objects.select_related("step", *related), pk=pk, step__isnull=False)
