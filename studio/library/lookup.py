"""Finding what an address names."""

from django.shortcuts import get_object_or_404

from studio.library.models import Session


def with_map(pk, *related) -> Session:
    """A session that has a map, with its current step and what else is ``related``; 404 otherwise."""
    sessions = Session.objects.select_related("step", *related).defer("finding")
    return get_object_or_404(sessions, pk=pk, step__isnull=False)
