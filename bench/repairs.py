"""Ten typical mistakes, each made in the demo's map and put right through the page alone; actions are counted."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import mir_eval
import numpy as np

from core.demo import boathouse


class Hands:
    """Mouse and keyboard on the page; every press, click and drag is an action."""

    def __init__(self, page):
        self.page, self.actions = page, 0

    def press(self, key):
        self.page.keyboard.press(key)
        self.actions += 1

    def click(self, seconds):
        """Click the line of the beat nearest to a time, in the ruler."""
        self._show(seconds - 4, seconds + 4)
        beat = self.page.evaluate("t => desk.grid.time[desk.grid.nearest(t)]", seconds)
        x, y = self._at(beat)
        self.page.mouse.click(x, y)
        self.actions += 1
        self.page.wait_for_function("desk.selected !== null")

    def choose(self, start, end):
        """Drag a stretch along the time above the bars."""
        self._show(start - 3, end + 3)
        self.page.mouse.move(*self._at(start, 8))
        self.page.mouse.down()
        self.page.mouse.move(*self._at((start + end) / 2, 8))
        self.page.mouse.move(*self._at(end, 8))
        self.page.mouse.up()
        self.actions += 1

    def button(self, selector):
        self.page.locator(selector).first.click()
        self.actions += 1

    def _show(self, start, end):
        self.page.evaluate(
            "([a, b]) => desk.view.set(a, ((b - a) * desk.facts.rate) / desk.view.width)", [max(0, start), end]
        )
        self.page.wait_for_function("!desk.asked")  # it is drawn there

    def _at(self, seconds, y=28):
        box = self.page.locator("#ruler").bounding_box()
        return box["x"] + self.page.evaluate("t => desk.view.x(t)", seconds), box["y"] + y


@dataclass(frozen=True)
class Spoiling:
    """``spoil``: edits as data; ``repair``: what hands do about it."""

    name: str
    spoil: list[dict]
    repair: Callable[[Hands], None]


def grid_of(page) -> dict:
    page.evaluate("() => desk.editing.queue")
    page.wait_for_function("!desk.before")
    return page.evaluate("({time: desk.grid.time, bar: desk.grid.bar, beat: desk.grid.beat, first: desk.grid.first})")


def _first_doubt(hands: Hands) -> None:
    hands.page.wait_for_function("document.body.dataset.doubts?.startsWith(desk.step + ':')", timeout=60_000)
    hands.press("j")
    hands.page.wait_for_function("desk.doubts.open >= 0")
    hands.press("1")


def spoilings(grid: dict) -> list[Spoiling]:
    """The ten, for a map that is right as ``grid``."""
    truth = boathouse.truth()
    time, first = np.array(grid["time"]), grid["first"]

    def at(bar, beat=1):
        return float(truth.seconds_of_beat(truth.meters.beat_of_quarters(truth.meters.bar_quarters(bar)) + beat - 1))

    def beat(seconds):
        return first + int(np.argmin(np.abs(time - seconds)))

    last = first + len(time) - 1
    odd = next(b for b in range(2, 60) if truth.meters.meter_at(b) != truth.meters.meter_at(1))
    slow = [at(37), at(41)]

    def start_at_bar_one(h):
        h.click(at(1))
        h.press("Shift+O")

    def solve_slow_down(h):
        h.choose(*slow)
        h.press("Shift+S")

    def remove_beat(h):
        h.click((at(12, 2) + at(12, 3)) / 2)
        h.press("Delete")

    def tell_odd_bar(h):
        h.click(at(odd))
        n = truth.meters.meter_at(odd).beats
        h.button(f".chosen [aria-label='{n} beats']")

    def end_music(h):
        h.click(float(time[-1]))
        h.press("e")

    def half_stretch(h):
        h.choose(at(20), at(24))
        h.press("h")

    usual = truth.meters.meter_at(1).felt
    return [
        Spoiling("count-in taken for bar 1", [{"kind": "number", "beat": first, "bar": 1}], start_at_bar_one),
        Spoiling("half tempo", [{"kind": "ratio", "ratio": "1:2"}], lambda h: h.press("d")),
        Spoiling("slow-down missed", [{"kind": "steady", "stretch": slow}], solve_slow_down),
        Spoiling(
            "extra beat in a fill",
            [{"kind": "insert", "to": (at(12, 2) + at(12, 3)) / 2, "free": True}],
            remove_beat,
        ),
        Spoiling("odd bar missed", [{"kind": "meter", "bar": odd, "meter": usual, "only": True}], tell_odd_bar),
        Spoiling("ending wild", [{"kind": "ends", "beat": last + 7}], end_music),
        Spoiling("a shift by an eighth", [{"kind": "offbeat", "share": 0.5}], _first_doubt),
        Spoiling("downbeat off by one", [{"kind": "downbeat", "by": 1}], lambda h: h.press("(")),
        Spoiling(
            "double tempo in one stretch",
            [{"kind": "ratio", "ratio": "2:1", "stretch": [at(20), at(24)]}],
            half_stretch,
        ),
        Spoiling("all 40 ms late", [{"kind": "shift", "by": 0.04}], _first_doubt),
    ]


def marks(grid: dict) -> tuple[float, float, float]:
    """F of beats and of downbeats within 70 ms against the demo's truth, inside its music; share of right numbers."""
    truth = boathouse.truth()
    beats = truth.beats()
    t, one, bar = np.array(grid["time"]), np.array(grid["beat"]) == 1, np.array(grid["bar"])
    numbered = {int(b): float(s) for b, s in zip(bar[one], t[one], strict=True)}
    lines = [(b, float(truth.bar_seconds(b))) for b in range(1, truth.bar_range[1])]
    numbers = float(np.mean([abs(numbered.get(b, -9.0) - s) < 0.07 for b, s in lines]))
    inside = beats.seconds >= truth.bar_seconds(1) - 0.01
    t, one = t[t > truth.bar_seconds(1) - 0.1], one[t > truth.bar_seconds(1) - 0.1]
    f = mir_eval.beat.f_measure
    return f(beats.seconds[inside], t), f(beats.seconds[inside & (beats.beat == 1)], t[one]), numbers


def run(page) -> list[tuple[str, int, tuple[float, ...], tuple[float, ...]]]:
    """Spoil and repair; for each the actions needed, and the marks when spoiled and when repaired."""
    clean = grid_of(page)
    origin = page.evaluate("desk.step")
    out = []
    for case in spoilings(clean):
        page.evaluate("(step) => desk.editing.goTo(step)", origin)
        for edit in case.spoil:
            page.evaluate("(edit) => desk.editing.make(edit)", edit)
        page.evaluate(
            "() => (desk.setLoop(null), desk.select(null), desk.panels.turn('doubts'), desk.doubts.open = -1)"
        )
        spoiled = grid_of(page)
        hands, step = Hands(page), page.evaluate("desk.step")
        case.repair(hands)
        page.wait_for_function("(step) => desk.step !== step", arg=step)
        out.append((case.name, hands.actions, marks(spoiled), marks(grid_of(page))))
    page.evaluate("(step) => desk.editing.goTo(step)", origin)
    return out
