"""What tests of commands share: a recording without tracks, and a map of a band that wanders."""

import numpy as np

from core.document import Document
from core.editing import apply
from core.listening.attacks import Attacks
from core.tempomap import Meters, TempoMap
from core.tracking.context import NoBeats, build_context


class Silent:
    """A recording whose tracks are not analysed: commands do what they can without evidence."""

    seconds = 600.0
    found = None

    def context(self):
        raise NoBeats("There is nothing to hear.")

    def attacks(self, track=None):
        return []

    def reading(self, number):
        return None

    def chains(self):
        return []

    def pieces(self):
        return []


class Struck(Silent):
    """A recording of which only the times of attacks are known."""

    def __init__(self, seconds):
        self.times = np.array(seconds)

    def attacks(self, track=None):
        n = len(self.times)
        return [Attacks(self.times, np.full(n, 0.9), np.full(n, 0.01))]


class Analysed(Silent):
    """A recording in memory."""

    def __init__(self, tracks, readings=(), pieces=()):
        self.tracks, self.readings, self._pieces = tracks, readings, pieces
        self._context = build_context(tracks)
        self.seconds = max(len(t.evidence) for t in tracks) / 100

    def context(self):
        return self._context

    def attacks(self, track=None):
        return [t.attacks for t in self.tracks]

    def reading(self, number):
        return self.readings[number] if number < len(self.readings) else None

    def pieces(self):
        return self._pieces


def wandering(beats=65, meters=None, seed=3, first=0):
    """Beats at about 120 that wander by some percent."""
    rng = np.random.default_rng(seed)
    gaps = 0.5 * np.exp(np.cumsum(rng.normal(0, 0.01, beats - 1)))
    return TempoMap.from_beats(2 + np.concatenate([[0], np.cumsum(gaps)]), first, meters or Meters())


def lines(tempo_map):
    """Seconds and numbers of the bar lines inside the music."""
    beats = tempo_map.beats()
    on = beats.beat == 1
    return dict(zip(beats.seconds[on].round(6).tolist(), beats.bar[on].tolist(), strict=True))


def do(document, *commands, recording=None, **more):
    """The document after some commands, one after the other."""
    for command in commands:
        document = apply(command, document, recording or Silent(), **more).document
    return document


def on(tempo_map, *statements):
    return Document(tempo_map, tuple(statements))
