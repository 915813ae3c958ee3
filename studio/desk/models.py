"""The history of a session's map."""

from django.db import models

from core.tempomap import TempoMap


class MapStep(models.Model):
    """The whole map after one named edit. Steps are never changed or removed; undone ones stay reachable."""

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="steps")
    before = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="after")
    name = models.CharField(max_length=200)
    map = models.JSONField()
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self):
        return self.name

    @property
    def tempo_map(self) -> TempoMap:
        return TempoMap.from_json(self.map)
