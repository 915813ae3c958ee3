"""Passes: what was recorded in the page, or is being recorded."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path

from django.db import models
from django.utils import timezone

from core.audio import growing
from studio.keys import Uncountable
from studio.library.models import Session, Track

#: Seconds without samples after which a pass that nobody ended counts as cut off for whoever opens the Record pane: its
#: page was closed, or its machine slept. Housekeeping waits longer, as a server that was away may be sent the rest.
CUT_OFF, GIVEN_UP = 10, 900


class Recording(Uncountable):
    """One pass: a file that grows, then a track."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="recordings")
    name = models.CharField(max_length=200, help_text="of all passes that are alternatives to each other")
    rate = models.PositiveIntegerField()
    channels = models.PositiveSmallIntegerField()
    starts = models.FloatField(help_text="seconds of the session at which it begins, the latency taken out")
    created = models.DateTimeField(auto_now_add=True)
    last_samples = models.DateTimeField(auto_now_add=True)
    ended = models.BooleanField(default=False)
    track = models.OneToOneField(Track, null=True, on_delete=models.SET_NULL, related_name="recording")
    so_far = models.JSONField(null=True, help_text="what was found of it while it was recorded")

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.name

    @property
    def path(self) -> Path:
        return self.session.folder / f"recording-{self.pk}.wav"

    @property
    def frames(self) -> int:
        return growing.frames(self.path, self.channels) if self.path.exists() else 0

    def is_cut_off(self, after: int = CUT_OFF) -> bool:
        """Whether nothing has come for so many seconds."""
        return not self.ended and timezone.now() - self.last_samples > timedelta(seconds=after)

    def touch(self, now: datetime | None = None) -> None:
        Recording.objects.filter(pk=self.pk).update(last_samples=now or timezone.now())
