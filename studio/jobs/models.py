"""Long work, as the page shows it: what, how far, and how it ended."""

from __future__ import annotations

from django.db import models

from studio.actors import whose
from studio.jobs.registry import kind_of
from studio.keys import Uncountable

#: How often a job is begun before it is given up.
TRIES = 3


class Cancelled(Exception):
    """Raised inside running work when the engineer cancelled it, or another worker has the job now."""


class Job(Uncountable):
    """One piece of work for a session, or for one of its tracks."""

    class State(models.TextChoices):
        WAITING = "waiting", "waiting"
        RUNNING = "running", "running"
        DONE = "done", "done"
        FAILED = "failed", "failed"
        CANCELLED = "cancelled", "cancelled"

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="jobs")
    track = models.ForeignKey("library.Track", null=True, on_delete=models.CASCADE, related_name="jobs")
    kind = models.CharField(max_length=30, help_text="of studio.jobs.registry")
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    stage = models.CharField(max_length=200, blank=True)
    share = models.FloatField(default=0.0)
    message = models.TextField(blank=True, help_text="for the engineer, where it did not end well")
    tries = models.PositiveSmallIntegerField(default=0)
    cancel_asked = models.BooleanField(default=False)
    created = models.DateTimeField(auto_now_add=True)
    lease = models.PositiveIntegerField(default=0, help_text="rises whenever a worker takes it or gives it back")
    worker = models.CharField(max_length=40, blank=True, help_text="the one that took it last")
    by = models.CharField(max_length=150, blank=True, default=whose, help_text="who wants it")
    place = models.IntegerField(default=0, help_text="lower ones are taken first; of one place the oldest")

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"{self.label} {self.state}"

    def fence(self) -> None:
        """Inside the transaction that stores a result: raises :class:`Cancelled` where it must not be stored any
        more."""
        if not Job.objects.filter(pk=self.pk, lease=self.lease, state=self.State.RUNNING, cancel_asked=False).exists():
            raise Cancelled

    @property
    def label(self) -> str:
        """What the page calls it."""
        return kind_of(self.kind).label

    @property
    def open(self) -> bool:
        return self.state in (self.State.WAITING, self.State.RUNNING)

    @property
    def percent(self) -> int:
        return round(100 * self.share)


class Pause(models.Model):
    """While a row exists, no new job starts; running jobs continue."""

    since = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"paused since {self.since}"
