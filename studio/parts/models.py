"""Parts that follow a session's map, each with a history of its own."""

from pathlib import Path

import orjson
from django.db import models

from core.following.parts import Placed, placed, sounding
from core.formats.smf import Note
from core.instruments.kit import INSTRUMENTS
from core.tempomap import TempoMap

#: The instrument of a part that is an audio loop.
LOOP = "loop"


class Part(models.Model):
    """Added notes: a pattern, an imported MIDI part, a bass line, a pad, what a keyboard played."""

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="parts")
    name = models.CharField(max_length=200)
    instrument = models.CharField(max_length=20, choices=[(i, i) for i in [*INSTRUMENTS, LOOP]])
    program = models.PositiveSmallIntegerField(default=0, help_text="of General MIDI, from 0; kept for export")
    gain = models.FloatField(default=0.0, help_text="dB")
    muted = models.BooleanField(default=False)
    solo = models.BooleanField(default=False)
    beats = models.PositiveSmallIntegerField(default=0, help_text="of an audio loop")
    gone = models.BooleanField(default=False, help_text="taken out; can be brought back")
    step = models.ForeignKey("parts.PartStep", null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        ordering = ["pk"]

    def __str__(self):
        return self.name

    @property
    def is_loop(self) -> bool:
        return self.instrument == LOOP

    @property
    def loop(self) -> Path:
        """The sound of an audio loop, at the session's rate."""
        return self.session.folder / "loops" / f"{self.pk}.flac"


class PartStep(models.Model):
    """A part's notes after one named edit. Steps are never changed or removed; undone ones stay reachable.

    ``notes`` as JSON rows: bar, offset, length, pitch, velocity, channel where it rides the bars; start, end, pitch,
    velocity, channel where it keeps the clock. ``tied_on``: the map under it when it was tied so.
    """

    class Ties(models.TextChoices):
        BARS = "bars", "rides the bars"
        CLOCK = "clock", "keeps the clock"

    part = models.ForeignKey(Part, on_delete=models.CASCADE, related_name="steps")
    before = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="after")
    name = models.CharField(max_length=200)
    ties = models.CharField(max_length=10, choices=Ties.choices)
    notes = models.TextField()
    tied_on = models.ForeignKey("desk.MapStep", on_delete=models.CASCADE, related_name="+")
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self):
        return self.name

    @property
    def rides(self) -> bool:
        return self.ties == self.Ties.BARS

    def rows(self) -> list[Placed] | list[Note]:
        """Its notes as kept."""
        kind = Placed if self.rides else Note
        return [kind(*row) for row in orjson.loads(self.notes)]

    def sounding(self, tempo_map: TempoMap) -> list[Note]:
        """Where its notes sound under a map."""
        rows = self.rows()
        return sounding(tempo_map, rows) if self.rides else rows

    def placed(self, tempo_map: TempoMap) -> list[Placed]:
        """The musical positions of its notes under a map."""
        rows = self.rows()
        return rows if self.rides else placed(tempo_map, rows)

    def otherwise(self, tempo_map: TempoMap) -> list[Note]:
        """Where its notes would sound if it had been tied the other way when it was tied."""
        then = self.tied_on.tempo_map
        if self.rides:
            return sounding(then, self.rows())
        return sounding(tempo_map, placed(then, self.rows()))


def written(notes: list[Placed] | list[Note]) -> str:
    """Notes as a step keeps them; floats in their shortest exact form."""
    if notes and isinstance(notes[0], Placed):
        rows = [[n.bar, n.offset, n.length, n.pitch, n.velocity, n.channel] for n in notes]
    else:
        rows = [[n.start, n.end, n.pitch, n.velocity, n.channel] for n in notes]
    return orjson.dumps(rows).decode()
