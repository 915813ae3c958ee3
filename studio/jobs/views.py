"""What is being worked on, for the page to show."""

from django.apps import apps
from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_POST
from django_htmx.http import trigger_client_event

from studio.inputs import whole
from studio.jobs.models import Job, Pause
from studio.jobs.queue import cancel, pause, put_first, start
from studio.jobs.registry import state_of

_ENDED_BADLY = Job.State.FAILED, Job.State.CANCELLED


@require_GET
def jobs(request: HttpRequest, pk: int) -> HttpResponse:
    """The session's open jobs and the last message; the page asks for them again and again."""
    return progress(request, pk)


def progress(request: HttpRequest, session: int) -> HttpResponse:
    """The progress bar as a fragment; the event with it tells the page what apps contribute of the session's state."""
    every = list(Job.objects.filter(session_id=session).select_related("track"))
    open_jobs = [j for j in every if j.open]
    current = next((j for j in open_jobs if j.state == Job.State.RUNNING), open_jobs[0] if open_jobs else None)
    last = every[-1] if every and every[-1].state in _ENDED_BADLY else None
    paused = current is not None and current.state == Job.State.WAITING and Pause.objects.exists()
    failed = last is not None and last.state == Job.State.FAILED
    told = "" if last is None else last.message if failed else f"{last.label} was cancelled."
    context = {
        "failed": failed,
        "told": told,
        "job": current,
        "more": len(open_jobs) - 1,
        "last": last,
        "paused": paused,
    }
    state = {**state_of(session), "busy": bool(open_jobs), "version": settings.STATIC_VERSION}
    response = render(request, "jobs/progress.html", context)
    return trigger_client_event(response, "session-state", state)


@require_POST
def stop(request: HttpRequest, pk: int) -> HttpResponse:
    job = get_object_or_404(Job, pk=pk)
    cancel(job)
    return progress(request, job.session_id)


@require_POST
def retry(request: HttpRequest, pk: int) -> HttpResponse:
    """Queue the same work again after it failed or was cancelled, and forget its message."""
    job = get_object_or_404(Job.objects.select_related("session", "track"), pk=pk, state__in=_ENDED_BADLY)
    start(job.session, job.kind, job.track)
    job.delete()
    return progress(request, job.session_id)


@require_POST
def dismiss(request: HttpRequest, pk: int) -> HttpResponse:
    """Forget a finished job's message."""
    Job.objects.filter(pk=pk, state__in=_ENDED_BADLY).delete()
    return HttpResponse("")


# ---- the queue of all sessions

#: Jobs that the queue lists at most.
_LISTED = 200


@require_GET
def queue(request: HttpRequest) -> HttpResponse:
    """All that is worked on and waits, in its order; the page asks again and again for the list alone."""
    return _queue(request, "jobs/list.html" if request.headers.get("HX-Request") else "jobs/queue.html")


def _queue(request: HttpRequest, template: str = "jobs/list.html") -> HttpResponse:
    sessions = apps.get_model("library", "Session").objects.all()  # those that whoever asks may see
    jobs = Job.objects.filter(session__in=sessions).select_related("session", "track")
    waiting = jobs.filter(state=Job.State.WAITING).order_by("place", "pk")
    context = {
        "running": jobs.filter(state=Job.State.RUNNING),
        "waiting": waiting[:_LISTED],
        "count": waiting.count(),
        "paused": Pause.objects.exists(),
        "failed": jobs.filter(state=Job.State.FAILED).order_by("-pk")[:20],
    }
    return render(request, template, context)


@require_POST
def steer(request: HttpRequest) -> HttpResponse:
    """Pause the queue or go on; put a job first; cancel one, or all that wait."""
    arguments = request.POST
    if "pause" in arguments:
        pause(arguments["pause"] == "1")
    if "first" in arguments:
        put_first(get_object_or_404(Job, pk=whole(arguments["first"])))
    if "cancel" in arguments:
        cancel(get_object_or_404(Job, pk=whole(arguments["cancel"])))
    if "cancel_all" in arguments:
        for job in Job.objects.filter(state=Job.State.WAITING):
            cancel(job)
    return _queue(request)
