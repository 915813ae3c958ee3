"""The history of a session's map."""

from __future__ import annotations

import threading
from datetime import datetime
from typing import Any

import numpy as np
import orjson
from django.db import models
from numpy.typing import NDArray

from core.reshaping.warp import Warp
from core.tempomap import TempoMap
from core.tracking.doubts.settled import Settlement
from studio.actors import whose


class MapStep(models.Model):
    """The whole document after one named edit. Steps are never changed or removed; undone ones stay reachable."""

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="steps")
    before = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="after")
    place = models.PositiveIntegerField(default=0, help_text="how many steps lie before it")
    name = models.CharField(max_length=200)
    map = models.TextField(blank=True, help_text="JSON, of steps made before content was stored by pieces")
    content = models.TextField(blank=True, help_text="JSON: the map that names its chunks, and digests of the state")
    made = models.DateTimeField(auto_now_add=True)
    by = models.CharField(max_length=150, blank=True, default=whose, help_text="who made it; empty: no accounts")
    doubts = models.PositiveIntegerField(null=True, help_text="open ones when last looked at")
    version = models.CharField(max_length=100, blank=True, help_text="a name by which the engineer finds it again")

    #: What brings the recording's seconds to this step's, where it is the step of a reshaped session.
    clock: Warp | None = None

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.name

    @property
    def tempo_map(self) -> TempoMap:
        # steps never change, and a drag asks for the same one many times a second; its text need not even be read
        return _recent.get(self) or self.remember(self._read())

    def _read(self) -> TempoMap:
        from studio.desk import pieces

        if not self.content:
            return TempoMap.from_json(orjson.loads(self.map))
        cut = orjson.loads(self.content)["map"]
        return pieces.joined_map(cut, pieces.fetch(self.session_id, pieces.chunks_of(cut)))

    @property
    def state(self) -> dict[str, str]:
        """Digests of the pieces of state beside the map; none for a step made before they were kept."""
        return orjson.loads(self.content)["state"] if self.content else {}

    @property
    def map_content(self) -> Any:
        """What names the content of the map: equal where maps are."""
        return orjson.loads(self.content)["map"]

    def remember(self, tempo_map: TempoMap) -> TempoMap:
        """Keep the map in memory, so that it need not be read again."""
        _recent.put(self, tempo_map)
        return tempo_map


class Piece(models.Model):
    """A piece of the content of steps, by its digest (BLAKE2b, 128 bits); compressed with zlib."""

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="pieces")
    digest = models.CharField(max_length=32)
    data = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["session", "digest"], name="one_piece_a_content")]


class RecentMaps:
    """The maps of the last steps that were used, some 100 kB each."""

    def __init__(self, most: int) -> None:
        self.most = most
        self._maps: dict[tuple[int, datetime], TempoMap] = {}
        self._lock = threading.Lock()

    def __len__(self) -> int:
        return len(self._maps)

    def get(self, step: MapStep) -> TempoMap | None:
        return self._maps.get((step.pk, step.made))

    def put(self, step: MapStep, tempo_map: TempoMap) -> None:
        with self._lock:
            self._maps[step.pk, step.made] = tempo_map
            while len(self._maps) > self.most:
                del self._maps[next(iter(self._maps))]

    def clear(self) -> None:
        with self._lock:
            self._maps.clear()


_recent = RecentMaps(64)


class Mark(models.Model):
    """A mark on the recording: a section, a statement (:mod:`studio.desk.statements`), or a dismissed doubt.

    Its ends are seconds, as the recording never moves; on the page they sit on the nearest bar lines (sections)
    or beats of whatever the map is then.
    """

    class Kind(models.TextChoices):
        SECTION = "section", "Section"
        LOCK = "lock", "Locked"
        HOLD = "hold", "Hold"
        FREE = "free", "No beat"
        LINE = "line", "Bar line"
        BARS = "bars", "Number of bars"
        METER = "meter", "Meter"
        STARTS = "starts", "Music starts"
        ENDS = "ends", "Music ends"
        FINE = "fine", "Doubt dismissed"  # the name is the doubt's kind

    session = models.ForeignKey("library.Session", on_delete=models.CASCADE, related_name="marks")
    kind = models.CharField(max_length=10, choices=Kind.choices)
    name = models.CharField(max_length=100, blank=True)
    start = models.FloatField()
    end = models.FloatField()
    colour = models.PositiveSmallIntegerField(default=0, help_text="of a section: a place in the page's palette")
    data = models.JSONField(default=dict, help_text="what a statement says beside where: number, bars, meter, beats")

    class Meta:
        ordering = ["start", "pk"]

    def __str__(self) -> str:
        return self.name or self.get_kind_display()

    @property
    def settlement(self) -> Settlement:
        """As the rules that settle doubts read it."""
        kinds = {self.Kind.LOCK: "locked", self.Kind.BARS: "counted", self.Kind.FINE: "dismissed"}
        kind = self.Kind(self.kind)
        if kind == self.Kind.METER and not self.data["only"]:
            return Settlement("meters", self.start, self.end, self.name)
        return Settlement(kinds.get(kind, kind.value), self.start, self.end, self.name)

    def times(self, seconds: NDArray[np.float64]) -> NDArray[np.float64]:
        """Those of an array of times that lie in it."""
        return seconds[(seconds >= self.start - 1e-6) & (seconds <= self.end + 1e-6)]

    def words(self, tempo_map: TempoMap) -> str:
        """The bars it covers."""
        first, last = (int(tempo_map.meters.bars_at(q)) for q in tempo_map.quarters_at([self.start, self.end - 1e-3]))
        return f"bar {first}" if first == last else f"bars {first} to {last}"
