"""What is being worked on, for the page to show."""

from django.http import HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_POST
from django_htmx.http import trigger_client_event

from studio.jobs.models import Job
from studio.jobs.tasks import cancel, revive, start
from studio.library.models import Session


@require_GET
def jobs(request, pk):
    """The session's open jobs and the last message; asked for again and again by the page."""
    revive()
    return _fragment(request, pk)


def _fragment(request, pk):
    session = get_object_or_404(Session.objects.defer("finding"), pk=pk)  # whole maps, which nobody needs here
    every = list(session.jobs.select_related("track"))
    open_jobs = [j for j in every if j.open]
    current = next((j for j in open_jobs if j.state == Job.State.RUNNING), open_jobs[0] if open_jobs else None)
    last = every[-1] if every and every[-1].state in (Job.State.FAILED, Job.State.CANCELLED) else None
    response = render(
        request,
        "jobs/progress.html",
        {"session": session, "job": current, "more": len(open_jobs) - 1, "last": last},
    )
    heard = session.tracks.filter(heard=True).count()
    chords = session.harmony.step_id if hasattr(session, "harmony") else None
    return trigger_client_event(
        response,
        "session-state",
        {
            "step": session.step_id,
            "heard": heard,
            "tracks": session.tracks.count(),
            "busy": bool(open_jobs),
            "chords": chords,
        },
    )


@require_POST
def find(request, pk):
    """Start finding beats."""
    session = get_object_or_404(Session, pk=pk)
    start(session, Job.Kind.FIND)
    return _fragment(request, pk)


@require_POST
def stop(request, pk):
    job = get_object_or_404(Job, pk=pk)
    cancel(job)
    return _fragment(request, job.session_id)


@require_POST
def dismiss(request, pk):
    """Forget a finished job's message."""
    Job.objects.filter(pk=pk, state__in=[Job.State.FAILED, Job.State.CANCELLED]).delete()
    return HttpResponse("")
