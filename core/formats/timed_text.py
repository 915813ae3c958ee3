"""Bars and sections as text with times: label tracks, and WebVTT for film.

A label track has a line an item: start, end, label, parted by tabs, seconds with a point (common practice). WebVTT:
"The Web Video Text Tracks Format" (W3C 2019); as chapters, each cue is a section.
"""

from __future__ import annotations

from collections.abc import Sequence

from core.formats.carried.content import Section
from core.formats.clock import clock_time
from core.tempomap import TempoMap


def label_track(tempo_map: TempoMap, sections: Sequence[Section] = (), beats: bool = False) -> str:
    """Every bar, or with ``beats`` every felt beat (``12.3`` is bar 12, beat 3), then the sections as stretches."""
    found = tempo_map.beats()
    lines = []
    for t, bar, beat in zip(found.seconds.tolist(), found.bar.tolist(), found.beat.tolist(), strict=True):
        if beats or beat == 1:
            lines.append(f"{t:.6f}\t{t:.6f}\t{f'{bar}.{beat}' if beats else bar}\n")
    lines += [f"{s.start:.6f}\t{s.end:.6f}\t{' '.join(s.name.split())}\n" for s in sections]
    return "".join(lines)


def chapters(sections: Sequence[Section]) -> str:
    """The sections as WebVTT chapters; times are good to a millisecond."""
    cues = [
        f"{k}\n{clock_time(s.start)} --> {clock_time(max(s.end, s.start + 0.001))}\n{_plain(s.name)}\n"
        for k, s in enumerate(sorted(sections, key=lambda s: s.start), 1)
        if s.end > 0
    ]
    return "\n".join(["WEBVTT\n", *cues])


def bars_vtt(tempo_map: TempoMap, seconds: float) -> str:
    """A cue a bar that shows bar and tempo, for whoever watches the picture."""
    first, last = tempo_map.bar_range
    bars = range(first, last + 1)
    lines = [*tempo_map.bar_seconds(bars).tolist(), min(seconds, float(tempo_map.bar_seconds(last + 1)))]
    cues = []
    for k, bar in enumerate(bars):
        start, end = max(0.0, lines[k]), min(seconds, lines[k + 1])
        if end > start + 0.001:
            beats = tempo_map.meters.meter_at(bar).beats
            cues.append(
                f"{clock_time(start)} --> {clock_time(end)}\nBar {bar}, {60 * beats / (lines[k + 1] - lines[k]):.1f}\n"
            )
    return "\n".join(["WEBVTT\n", *cues])


def _plain(text: str) -> str:
    """Cue text on one line; what WebVTT would take for its own signs is written out."""
    return " ".join(text.split()).replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
