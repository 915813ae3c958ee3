"""What is being worked on, for the page to show."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_POST
from django_htmx.http import trigger_client_event

from studio.jobs.models import Job
from studio.jobs.queue import cancel
from studio.jobs.registry import state_of


@require_GET
def jobs(request: HttpRequest, pk: int) -> HttpResponse:
    """The session's open jobs and the last message; the page asks for them again and again."""
    return progress(request, pk)


def progress(request: HttpRequest, session: int) -> HttpResponse:
    """The progress bar as a fragment; the event with it tells the page what apps contribute of the session's state."""
    every = list(Job.objects.filter(session_id=session).select_related("track"))
    open_jobs = [j for j in every if j.open]
    current = next((j for j in open_jobs if j.state == Job.State.RUNNING), open_jobs[0] if open_jobs else None)
    last = every[-1] if every and every[-1].state in (Job.State.FAILED, Job.State.CANCELLED) else None
    context = {"session": session, "job": current, "more": len(open_jobs) - 1, "last": last}
    state = {**state_of(session), "busy": bool(open_jobs)}
    response = render(request, "jobs/progress.html", context)
    return trigger_client_event(response, "session-state", state)


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    job = get_object_or_404(Job, pk=pk)
    cancel(job)
    return progress(request, job.session_id)


@require_POST
def dismiss(request: HttpRequest, pk: int) -> HttpResponse:
    """Forget a finished job's message."""
    Job.objects.filter(pk=pk, state__in=[Job.State.FAILED, Job.State.CANCELLED]).delete()
    return HttpResponse("")
