"""Sessions, their tracks, and uploads on their way to become tracks."""

import shutil
from pathlib import Path

from django.conf import settings
from django.db import models

from core.beats import Wishes
from core.following.click import Style
from core.tempomap import Meter


class Session(models.Model):
    """A performance: tracks that started together, and the map under them."""

    title = models.CharField(max_length=1000)
    created = models.DateTimeField(auto_now_add=True)
    touched = models.DateTimeField(auto_now=True)
    rate = models.PositiveIntegerField(null=True, help_text="samples a second at which everything plays")
    slowest = models.FloatField(default=Wishes().tempo[0], help_text="felt beats a minute")
    fastest = models.FloatField(default=Wishes().tempo[1])
    meter = models.CharField(max_length=40, blank=True, help_text="empty: found by listening")
    steady = models.BooleanField(null=True, help_text="one exact tempo, never, or (null) as it sounds")
    music_from = models.FloatField(null=True, help_text="seconds; null: where the music is heard to begin")
    music_to = models.FloatField(null=True)
    guides = models.JSONField(default=dict, help_text="weights by track name that the engineer gave; empty: as heard")
    click = models.JSONField(default=dict, help_text="sound and figure of the click")
    finding = models.JSONField(default=dict, help_text="confidence and guide ranks of the last analysis")
    step = models.ForeignKey("desk.MapStep", null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        ordering = ["-touched"]

    def __str__(self):
        return self.title

    @property
    def folder(self) -> Path:
        return settings.SESSIONS_FOLDER / str(self.pk)

    @property
    def seconds(self) -> float:
        return max((t.seconds for t in self.tracks.all()), default=0.0)

    @property
    def wishes(self) -> Wishes:
        return Wishes(
            (self.slowest, self.fastest),
            Meter.parse(self.meter) if self.meter else None,
            self.guides,
            self.music_from,
            self.music_to,
            steady=self.steady,
        )

    @property
    def click_style(self) -> Style:
        return Style(**self.click)

    def erase(self):
        """Remove the session and every file of it."""
        folder = self.folder
        self.delete()
        shutil.rmtree(folder, ignore_errors=True)


class Track(models.Model):
    """One recorded file (or MIDI performance) of a session. The source file is never altered."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="tracks")
    name = models.CharField(max_length=1000)
    source_name = models.CharField(max_length=100, help_text="file name inside the track's folder")
    digest = models.CharField(max_length=64, help_text="SHA-256 of the source")
    midi = models.BooleanField(default=False)
    rate = models.PositiveIntegerField(help_text="of the source")
    channels = models.PositiveSmallIntegerField()
    seconds = models.FloatField()
    heard = models.BooleanField(default=False, help_text="listened to: peaks, evidence and attacks are on disk")
    remarks = models.JSONField(default=list)
    gain = models.FloatField(default=0.0, help_text="dB")
    muted = models.BooleanField(default=False)
    solo = models.BooleanField(default=False)

    class Meta:
        ordering = ["pk"]

    def __str__(self):
        return self.name

    @property
    def folder(self) -> Path:
        return self.session.folder / str(self.pk)

    @property
    def source(self) -> Path:
        return self.folder / self.source_name

    @property
    def playback(self) -> Path:
        """What is played: the source, or its copy at the session's rate."""
        copy = self.folder / "playback.flac"
        return copy if copy.exists() else self.source

    @property
    def frames(self) -> int:
        """Length at the session's rate."""
        return round(self.seconds * self.session.rate)


class Upload(models.Model):
    """A file on its way: its bytes so far lie on disk, so that an interrupted one goes on where it stopped."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="uploads")
    name = models.CharField(max_length=1000)
    size = models.PositiveBigIntegerField()
    created = models.DateTimeField(auto_now_add=True)

    @property
    def path(self) -> Path:
        return self.session.folder / f"upload-{self.pk}.part"

    @property
    def received(self) -> int:
        return self.path.stat().st_size if self.path.exists() else 0
