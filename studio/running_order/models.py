"""The running order of a session: its sections in the order in which they are to be played."""

from django.db import models


class Turn(models.Model):
    """One place of the order: a section, how often, whether it is held until released, and how fast."""

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="turns")
    section = models.ForeignKey("desk.Mark", on_delete=models.CASCADE, related_name="+")
    place = models.PositiveIntegerField()
    times = models.PositiveSmallIntegerField(default=1)
    hold = models.BooleanField(default=False, help_text="a vamp: repeated until it is released")
    pace = models.FloatField(default=1.0, help_text="playing tempo, as a factor")

    class Meta:
        ordering = ["place", "pk"]

    def __str__(self) -> str:
        return str(self.section)
