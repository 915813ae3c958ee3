"""The history of a session's map."""

from datetime import datetime

import orjson
from django.db import models

from core.tempomap import TempoMap


class MapStep(models.Model):
    """The whole map after one named edit. Steps are never changed or removed; undone ones stay reachable."""

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="steps")
    before = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="after")
    place = models.PositiveIntegerField(default=0, help_text="how many steps lie before it")
    name = models.CharField(max_length=200)
    map = models.TextField(help_text="JSON; a thousand bars are some 150 kB")
    made = models.DateTimeField(auto_now_add=True)
    doubts = models.PositiveIntegerField(null=True, help_text="open ones when last looked at")
    version = models.CharField(max_length=100, blank=True, help_text="a name by which the engineer finds it again")

    class Meta:
        ordering = ["pk"]

    def __str__(self):
        return self.name

    @property
    def tempo_map(self) -> TempoMap:
        # steps never change, and a drag asks for the same one many times a second; its text need not even be read
        return _recent.get((self.pk, self.made)) or self.remember(TempoMap.from_json(orjson.loads(self.map)))

    def remember(self, tempo_map: TempoMap) -> TempoMap:
        """Keep the map at hand, so that it need not be read again."""
        _recent[self.pk, self.made] = tempo_map
        while len(_recent) > RECENT:
            _recent.pop(next(iter(_recent)), None)
        return tempo_map


#: How many maps are kept at hand.
RECENT = 64
_recent: dict[tuple[int, datetime], TempoMap] = {}


def written(tempo_map: TempoMap) -> str:
    """A map as a step keeps it; floats in their shortest exact form."""
    return orjson.dumps(tempo_map.to_json(arrays=True), option=orjson.OPT_SERIALIZE_NUMPY).decode()


class Mark(models.Model):
    """A named stretch of the recording: a section, a locked stretch, a hold, or music without beats.

    Its ends are seconds, as the recording never moves; on the page they sit on the nearest bar lines (sections)
    or beats of whatever the map is then.
    """

    class Kind(models.TextChoices):
        SECTION = "section", "Section"
        LOCK = "lock", "Locked"
        HOLD = "hold", "Hold"
        FREE = "free", "No beat"
        FINE = "fine", "Doubt dismissed"  # the name is the doubt's kind

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="marks")
    kind = models.CharField(max_length=10, choices=Kind.choices)
    name = models.CharField(max_length=100, blank=True)
    start = models.FloatField()
    end = models.FloatField()
    colour = models.PositiveSmallIntegerField(default=0, help_text="of a section: a place in the page's palette")

    class Meta:
        ordering = ["start", "pk"]

    def __str__(self):
        return self.name or self.get_kind_display()

    def times(self, seconds):
        """Those of an array of times that lie in it."""
        return seconds[(seconds >= self.start - 1e-6) & (seconds <= self.end + 1e-6)]

    def words(self, tempo_map: TempoMap) -> str:
        """The bars it covers."""
        first, last = (int(tempo_map.meters.bars_at(q)) for q in tempo_map.quarters_at([self.start, self.end - 1e-3]))
        return f"bar {first}" if first == last else f"bars {first} to {last}"
