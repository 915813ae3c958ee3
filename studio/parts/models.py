"""Parts that follow a session's map, each with a history of its own."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import orjson
from django.db import models

from core.instruments.kit import INSTRUMENTS
from core.notes import Note, ScoreNote, to_score, to_seconds
from core.tempomap import TempoMap
from studio.keys import Uncountable

#: The instrument of a part that is an audio loop.
LOOP = "loop"


class Part(Uncountable):
    """Added notes: a pattern, an imported MIDI part, a bass line, a pad, what a keyboard played."""

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="parts")
    name = models.CharField(max_length=200)
    instrument = models.CharField(max_length=20, choices=[(i, i) for i in [*INSTRUMENTS, LOOP]])
    program = models.PositiveSmallIntegerField(default=0, help_text="of General MIDI, from 0; kept for export")
    gain = models.FloatField(default=0.0, help_text="dB")
    muted = models.BooleanField(default=False)
    solo = models.BooleanField(default=False)
    pan = models.FloatField(default=0.0, help_text="-1 left to 1 right")
    voicing = models.CharField(
        max_length=20, blank=True, help_text="how it was made from the chords; empty: it was not"
    )
    beats = models.PositiveSmallIntegerField(default=0, help_text="of an audio loop")
    gone = models.BooleanField(default=False, help_text="taken out; can be brought back")
    step = models.ForeignKey("parts.PartStep", null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.name

    @property
    def now(self) -> PartStep:
        """Its current step: every part has one from the moment it is made."""
        assert self.step is not None
        return self.step

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

    def __str__(self) -> str:
        return self.name

    @property
    def rides(self) -> bool:
        return self.ties == self.Ties.BARS

    def stored(self) -> list[ScoreNote] | list[Note]:
        """Its notes as they are stored."""
        return self._riding() if self.rides else self._clocked()

    def _riding(self) -> list[ScoreNote]:
        return [ScoreNote(*row) for row in orjson.loads(self.notes)]

    def _clocked(self) -> list[Note]:
        return [Note(*row) for row in orjson.loads(self.notes)]

    def notes_in_seconds(self, tempo_map: TempoMap) -> list[Note]:
        """Where its notes sound under a map."""
        return to_seconds(tempo_map, self._riding()) if self.rides else self._clocked()

    def score_notes(self, tempo_map: TempoMap) -> list[ScoreNote]:
        """The musical positions of its notes under a map."""
        return self._riding() if self.rides else to_score(tempo_map, self._clocked())

    def otherwise(self, tempo_map: TempoMap) -> list[Note]:
        """Where its notes would sound if it had been tied the other way when it was tied."""
        then = self.tied_on.tempo_map
        if self.rides:
            return to_seconds(then, self._riding())
        return to_seconds(tempo_map, to_score(then, self._clocked()))


def notes_json(notes: Sequence[ScoreNote] | Sequence[Note]) -> str:
    """Notes as a step stores them; floats in their shortest exact form."""
    rows: list[list[float]] = [
        [n.bar, n.offset, n.length, n.pitch, n.velocity, n.channel]
        if isinstance(n, ScoreNote)
        else [n.start, n.end, n.pitch, n.velocity, n.channel]
        for n in notes
    ]
    return orjson.dumps(rows).decode()
