"""Sessions, their tracks, and uploads on their way to become tracks."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar, Self, TypeVar

from django.conf import settings
from django.db import models

from core.following.click import Style
from core.listening.roles import Sound, guessed_role
from core.tempomap import Meter, TempoMap
from core.tracking import TrackingOptions
from studio.actors import scope
from studio.keys import Uncountable

if TYPE_CHECKING:
    from studio.desk.models import MapStep

#: The rate of a session without tracks.
USUAL_RATE = 48_000


M = TypeVar("M", bound=models.Model)


class Present(models.Manager[M]):
    """Rows that were not put into the bin."""

    def get_queryset(self) -> models.QuerySet[M]:
        return super().get_queryset().filter(gone=False)


class PresentSessions(Present["Session"]):
    """Sessions that were not put into the bin and that whoever asks may see."""

    def get_queryset(self) -> models.QuerySet[Session]:
        return in_scope(super().get_queryset())


def in_scope(sessions: models.QuerySet[Session]) -> models.QuerySet[Session]:
    """Those that whoever asks may see; all, where there are no accounts."""
    narrowed = scope.get()
    return narrowed(sessions) if narrowed else sessions


class NoMap(LookupError):
    """A session whose beats were not found yet, in words for the engineer."""


class Session(Uncountable):
    """A performance: tracks that started together, and the map under them."""

    title = models.CharField(max_length=1000)
    created = models.DateTimeField(auto_now_add=True)
    touched = models.DateTimeField(auto_now=True)
    rate = models.PositiveIntegerField(null=True, help_text="samples a second at which everything plays")
    slowest = models.FloatField(default=TrackingOptions().tempo[0], help_text="felt beats a minute")
    fastest = models.FloatField(default=TrackingOptions().tempo[1])
    meter = models.CharField(max_length=40, blank=True, help_text="empty: found")
    steady = models.BooleanField(null=True, help_text="one exact tempo, never, or (null) as it sounds")
    music_from = models.FloatField(null=True, help_text="seconds; null: found")
    music_to = models.FloatField(null=True)
    song_seconds = models.FloatField(default=0, help_text="how long the song lasts that the session was started from")
    guides = models.JSONField(default=dict, help_text="weights by track name that the engineer gave; empty: automatic")
    click = models.JSONField(default=dict, help_text="sound and figure of the click")
    sounds = models.CharField(max_length=200, blank=True, help_text="what plays the parts; empty: the set that ships")
    step = models.ForeignKey("desk.MapStep", null=True, on_delete=models.SET_NULL, related_name="+")
    tags = models.CharField(max_length=1000, blank=True, help_text="words between commas: ,live,drums,")
    map_summary = models.JSONField(default=dict, help_text="tempo, meter, bars of the step ``summarised``, for lists")
    bpm = models.FloatField(null=True, help_text="the median tempo of that map")
    summarised = models.BigIntegerField(default=0, help_text="key of the step that was read last")
    gone = models.BooleanField(default=False, help_text="in the bin")
    gone_since = models.DateTimeField(null=True)

    objects: ClassVar[PresentSessions] = PresentSessions()
    everything: ClassVar[models.Manager[Session]] = models.Manager()

    class Meta:
        ordering = ["-touched"]
        indexes = [models.Index(fields=["gone", "-touched"], name="by_last_change")]

    def __str__(self) -> str:
        return self.title

    @property
    def folder(self) -> Path:
        return settings.SESSIONS_FOLDER / str(self.pk)

    @property
    def seconds(self) -> float:
        """Length of the longest track, or of the song that the session was started from."""
        return max([self.song_seconds, *(t.seconds for t in self.tracks.all())])

    @property
    def sample_rate(self) -> int:
        """Samples a second at which everything plays; of a session without tracks a usual one."""
        return self.rate or USUAL_RATE

    @property
    def frames(self) -> int:
        """Length in samples."""
        return round(self.seconds * self.sample_rate)

    @property
    def map_step(self) -> MapStep:
        """The current step of the map's history. Raises :class:`NoMap`."""
        if self.step is None:
            raise NoMap("This session has no map yet.")
        return self.step

    @property
    def tempo_map(self) -> TempoMap:
        """The map of the current step. Raises :class:`NoMap`."""
        return self.map_step.tempo_map

    @property
    def tracking_options(self) -> TrackingOptions:
        return TrackingOptions(
            (self.slowest, self.fastest),
            Meter.parse(self.meter) if self.meter else None,
            self.guides,
            self.music_from,
            self.music_to,
            exact_tempo=self.steady,
        )

    @property
    def is_analysed(self) -> bool:
        """Whether all of its tracks are."""
        return all(t.analysed for t in self.tracks.all())

    @property
    def click_style(self) -> Style:
        return Style(**self.click)

    def erase(self) -> None:
        """Remove the session and every file of it."""
        folder = self.folder
        self.delete()
        shutil.rmtree(folder, ignore_errors=True)


class Track(Uncountable):
    """One recorded file (or MIDI performance) of a session. The source file is never altered."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="tracks")
    name = models.CharField(max_length=1000)
    source_name = models.CharField(max_length=100, help_text="file name inside the track's folder")
    digest = models.CharField(max_length=64, help_text="SHA-256 of the source")
    midi = models.BooleanField(default=False)
    rate = models.PositiveIntegerField(help_text="of the source")
    channels = models.PositiveSmallIntegerField()
    seconds = models.FloatField(help_text="from the session's time zero to its end")
    offset = models.FloatField(default=0.0, help_text="seconds after time zero at which the recording starts")
    analysed = models.BooleanField(default=False, help_text="peaks, evidence and attacks are on disk")
    features_version = models.PositiveIntegerField(default=0, help_text="version of the analysis on disk")
    role = models.CharField(max_length=20, blank=True, help_text="what it is, as its name and sound tell")
    role_given = models.BooleanField(default=False, help_text="the engineer said so")
    sound = models.JSONField(default=dict, help_text="how it sounds on the whole; empty until it is analysed")
    remarks = models.JSONField(default=list)
    gain = models.FloatField(default=0.0, help_text="dB")
    muted = models.BooleanField(default=False)
    solo = models.BooleanField(default=False)
    pan = models.FloatField(default=0.0, help_text="-1 left to 1 right")
    gone = models.BooleanField(default=False, help_text="taken out; can be brought back")

    objects: ClassVar[Present[Self]] = Present()
    everything: ClassVar[models.Manager[Self]] = models.Manager()

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.name

    @property
    def folder(self) -> Path:
        return self.session.folder / str(self.pk)

    def guess_role(self) -> None:
        """Say what the track is by its name and sound, unless the engineer did. Not saved yet."""
        if self.sound and not self.role_given:
            self.role = guessed_role(self.name, Sound(**self.sound))

    @property
    def source(self) -> Path:
        return self.folder / self.source_name

    @property
    def playback(self) -> Path:
        """What is played: the source, or its copy at the session's rate and from its time zero."""
        return self.playback_copy if self.playback_copy.exists() else self.source

    @property
    def playback_copy(self) -> Path:
        """Where the copy at the session's rate lies, if the source cannot be played as it is."""
        return self.folder / "playback.flac"

    @property
    def frames(self) -> int:
        """Length at the session's rate."""
        return round(self.seconds * self.session.sample_rate)


class Upload(Uncountable):
    """A file on its way: its bytes so far lie on disk, so that an interrupted one goes on where it stopped."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="uploads")
    name = models.CharField(max_length=1000)
    size = models.PositiveBigIntegerField()
    created = models.DateTimeField(auto_now_add=True)
    outcome = models.JSONField(null=True, help_text="what came of it, should the page ask again; null: on its way")

    @property
    def path(self) -> Path:
        return self.session.folder / f"upload-{self.pk}.part"

    def forget(self) -> None:
        """Remove what has arrived, and that it was announced."""
        path = self.path
        self.delete()
        path.unlink(missing_ok=True)

    @property
    def received(self) -> int:
        return self.path.stat().st_size if self.path.exists() else 0
