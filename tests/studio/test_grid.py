"""What an edit answers to a page that has the grid: only what changed, and exactly that."""

from dataclasses import replace

import numpy as np

from core.tempomap import Meters, TempoMap
from core.tempomap.edits import move_beat, set_pin
from studio.desk.grid import change, grid
from tests.studio.base import StudioCase


def patched(base, sent):
    """The grid that the page has afterwards; what it does itself, see grid.js."""
    if "from" not in sent:
        return sent
    out = {k: list(v) if k in ("time", "bpm") else v for k, v in base.items()}
    for name in ("time", "bpm"):
        out[name][sent["from"] : sent["from"] + len(sent[name])] = sent[name]
    return out | {"pins": sent["pins"], "meters": sent["meters"]}


def same(case, one, two):
    case.assertEqual(set(one), set(two))
    for name in one:
        case.assertEqual(np.asarray(one[name]).tolist(), np.asarray(two[name]).tolist(), name)


class Changes(StudioCase):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(3)
        times = 1 + np.cumsum(0.5 + 0.01 * rng.standard_normal(60))
        self.map = TempoMap.from_beats(times, -2, Meters.of((1, "4/4"), (5, "3/4")))

    def test_a_moved_beat_changes_its_tempo_and_the_one_before(self):
        moved = move_beat(self.map, 10, float(self.map.seconds_of_beat(10)) + 0.03)
        sent = change(self.map, moved)
        self.assertEqual((sent["from"], len(sent["time"])), (11, 2))
        same(self, patched(grid(self.map), sent), grid(moved))

    def test_first_and_last_beats(self):
        first, last = self.map.beats().index[[0, -1]]
        for beat in (int(first), int(last)):
            moved = move_beat(self.map, beat, float(self.map.seconds_of_beat(beat)) + 0.02)
            same(self, patched(grid(self.map), change(self.map, moved)), grid(moved))

    def test_another_tempo_behind_the_last_beat_is_told(self):
        faster = replace(self.map, tail_bpm=90.0)
        sent = change(self.map, faster)
        self.assertEqual((sent["from"], sent["bpm"].tolist()), (59, [90.0]))
        same(self, patched(grid(self.map), sent), grid(faster))

    def test_a_pin_moves_nothing(self):
        pinned = set_pin(self.map, 7, True)
        sent = change(self.map, pinned)
        self.assertEqual(len(sent["time"]), 0)
        same(self, patched(grid(self.map), sent), grid(pinned))

    def test_where_bars_or_beats_change_all_is_sent(self):
        other = TempoMap(self.map.seconds, self.map.quarters, Meters.of((1, "3/4")))
        shorter = TempoMap.from_beats(self.map.seconds[:-1], -2, self.map.meters)
        later = TempoMap.from_beats(self.map.seconds, -1, self.map.meters)
        for changed in (other, shorter, later):
            self.assertIsNone(change(self.map, changed))


class Answers(StudioCase):
    """Every edit, told as a change and told whole, leaves the page with the same grid."""

    EDITS = (
        {"kind": "shift", "by": 0.005},
        {"kind": "nudge", "beat": 8, "by": 0.01},
        {"kind": "nudge", "beat": 8, "by": 0.02, "reach": "onward"},
        {"kind": "pin", "beat": 12},
        {"kind": "tempo", "beat": 9, "bpm": 118},
        {"kind": "ratio", "ratio": "2:1"},
        {"kind": "downbeat", "by": 1},
        {"kind": "remove", "beat": 6},
        {"kind": "steady", "stretch": [4.0, 9.0]},
        {"kind": "meter", "bar": 3, "meter": "3/4", "only": True},
    )

    def test_the_page_ends_with_the_whole_grid(self):
        take = self.mapped()
        url = f"/sessions/{take.pk}"
        state = self.client.get(f"{url}/map").json()
        small = 0
        for edit in self.EDITS:
            for preview in (True, False):
                said = {**edit, "step": state["step"], "had": True, "preview": preview}
                sent = self.post(f"{url}/edit", **said).json()
                whole = self.post(f"{url}/edit", **{**said, "had": False}).json() if preview else None
                after = patched(state["grid"], sent["grid"])
                same(self, after, whole["grid"] if preview else self.client.get(f"{url}/map").json()["grid"])
                small += "from" in sent["grid"]
            state = {"step": sent["step"], "grid": after}
        self.assertGreaterEqual(small, 8)
