"""The chords of a session, with a history of their own."""

import orjson
from django.db import models

from core.following.chordline import Spot
from core.following.chords import Chord


class Harmony(models.Model):
    """What was heard of a session's tones, and the chords as they are now."""

    session = models.OneToOneField("library.Session", on_delete=models.CASCADE, related_name="harmony")
    cents = models.FloatField(default=0.0, help_text="above equal temperament on A4 = 440 Hz")
    key = models.CharField(max_length=20, blank=True)
    grain = models.CharField(max_length=10, default="beat", choices=[("beat", "beats"), ("bar", "bars")])
    step = models.ForeignKey("harmony.ChordStep", null=True, on_delete=models.SET_NULL, related_name="+")


class ChordStep(models.Model):
    """All chords after one named edit, as JSON rows of seconds, symbol and confidence. Never changed or removed."""

    harmony = models.ForeignKey(Harmony, on_delete=models.CASCADE, related_name="steps")
    before = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="after")
    name = models.CharField(max_length=200)
    chords = models.TextField()
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self):
        return self.name

    def spots(self) -> list[Spot]:
        return [Spot(t, Chord.parse(text), sure) for t, text, sure in orjson.loads(self.chords)]


def record(harmony: Harmony, name: str, spots: list[Spot]) -> None:
    """Add a step and make it the current one."""
    rows = [[s.seconds, str(s.chord), s.confidence] for s in spots]
    harmony.step = ChordStep.objects.create(
        harmony=harmony, before_id=harmony.step_id, name=name[:200], chords=orjson.dumps(rows).decode()
    )
    harmony.save()
