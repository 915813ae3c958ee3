"""The history of a session's map."""

from functools import lru_cache

import orjson
from django.db import models

from core.tempomap import TempoMap


class MapStep(models.Model):
    """The whole map after one named edit. Steps are never changed or removed; undone ones stay reachable."""

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="steps")
    before = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="after")
    name = models.CharField(max_length=200)
    map = models.TextField(help_text="JSON; a thousand bars are some 150 kB")
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self):
        return self.name

    @property
    def tempo_map(self) -> TempoMap:
        return _read(self.pk, self.map)


def written(tempo_map: TempoMap) -> str:
    """A map as a step keeps it; floats in their shortest exact form."""
    return orjson.dumps(tempo_map.to_json()).decode()


@lru_cache(maxsize=64)
def _read(pk: int, text: str) -> TempoMap:
    # steps never change, and a drag asks for the same one many times a second
    return TempoMap.from_json(orjson.loads(text))
