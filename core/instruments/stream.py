"""The sound of a part, block by block: the same samples wherever the blocks begin."""

from __future__ import annotations

import logging
from bisect import bisect_left
from dataclasses import dataclass
from pathlib import Path
from threading import RLock
from typing import Any

import numpy as np
from cachetools import LRUCache, cached
from numpy.typing import NDArray

from core.instruments.kit import INSTRUMENTS
from core.instruments.sampler import LONGEST_RELEASE, brightness, play, resampled, sound_font
from core.instruments.soundfont import SoundFontError
from core.instruments.strokes import CHOKE, SHADES, Stroke, Strokes

#: Sounds that are kept, in bytes.
_KEPT = 96 << 20
#: How far a drum of the built-in kit stands to one side, -1 left to 1 right, as one hears it from the audience.
_SIDES = {42: 0.3, 44: 0.3, 46: 0.3, 49: -0.35, 51: 0.35, 57: 0.4, 52: -0.2, 53: 0.35, 55: -0.2, 59: 0.3,
          41: 0.4, 43: 0.3, 45: 0.15, 47: 0.0, 48: -0.15, 50: -0.3, 70: -0.25, 37: -0.05}  # fmt: skip
#: Percussion's bank in a sound set.
_PERCUSSION_BANK = 128
#: How far a note of one channel stands to one side: low ones left, as one sits at a piano.
_WIDEST, _ACROSS = 0.35, 80
#: The levels of both kinds, so that a part is about as loud with either (-18 LUFS, within 3 dB, where it was measured).
_BUILT_IN = 0.6
_SAMPLED = {"drums": 0.6, "bass": 0.75, "pad": 2.2, "strings": 1.5, "pluck": 1.6, "keys": 1.6}
_log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Player:
    """Who plays a part: one of :data:`core.instruments.kit.INSTRUMENTS`, or what a sound set has for ``program`` of
    General MIDI. ``sound_set``: a file in the SoundFont format, and when it was changed; None: the built-in voices."""

    instrument: str
    program: int = 0
    sound_set: tuple[Path, int] | None = None

    @property
    def tail(self) -> float:
        """How long a note may sound on after its end, seconds."""
        return LONGEST_RELEASE if self.sound_set else INSTRUMENTS[self.instrument].tail


@cached(LRUCache(_KEPT, getsizeof=lambda x: x.nbytes), lock=RLock())
def _sound(player: Player, rate: int, pitch: int, milliseconds: int, velocity: int, shade: int) -> NDArray[np.float32]:
    found = _sampled(player, rate, pitch, milliseconds, velocity, shade) if player.sound_set else None
    if found is None:
        found = _built_in(player.instrument, rate, pitch, milliseconds, velocity, shade)
    if not np.array_equal(found[:, 0], found[:, 1]):
        return found
    drums = player.instrument == "drums"
    side = _SIDES.get(pitch, 0.0) if drums else min(_WIDEST, max(-_WIDEST, (pitch - 60) / _ACROSS))
    return found * np.array([min(1.0, 1 - side), min(1.0, 1 + side)], dtype=np.float32)


def _sampled(
    player: Player, rate: int, pitch: int, milliseconds: int, velocity: int, shade: int
) -> NDArray[np.float32] | None:
    """A note of the sound set; None where the set has nothing for it, or cannot be read."""
    assert player.sound_set is not None
    bank, program = (_PERCUSSION_BANK, 0) if player.instrument == "drums" else (0, player.program)
    try:
        font = sound_font(*player.sound_set)
        found = play(font, bank, program, rate, pitch, velocity, milliseconds / 1000, SHADES[shade])
    except (SoundFontError, OSError):
        _log.exception("a sound set cannot be read; the built-in voices play")
        return None
    return np.float32(_SAMPLED[player.instrument]) * found if len(found) else None


def _built_in(
    instrument: str, rate: int, pitch: int, milliseconds: int, velocity: int, shade: int
) -> NDArray[np.float32]:
    """A note of the synthesiser: duller where it is soft, a little other each time."""
    noise = np.random.default_rng((pitch, velocity, shade))
    other = SHADES[shade]
    sound = INSTRUMENTS[instrument].voice(rate, pitch, milliseconds / 1000, velocity / 127, noise)
    sides = [brightness(resampled(x, other.cents), velocity, other.bright, rate) for x in np.atleast_2d(sound.T)]
    level = _BUILT_IN * 10 ** (other.db / 20)
    return np.asarray(level * np.stack(sides * 2 if len(sides) == 1 else sides, axis=1), dtype=np.float32)


def render_block(strokes: Strokes, player: Player, rate: int, start: int, frames: int) -> NDArray[np.float32]:
    """``frames`` stereo samples, (frames, 2), from sample ``start`` on; each note begins at ``round(seconds * rate)``.

    Raises ``KeyError`` for an instrument that there is not."""
    out = np.zeros((frames, 2), dtype=np.float32)
    if not strokes.strokes:
        return out
    # a drum sounds on for two seconds though its note is short
    earliest = start / rate - max(player.tail, 2.0) - strokes.longest
    latest = (start + frames) / rate + 1 / rate
    for stroke in strokes.strokes[bisect_left(strokes.starts, earliest) : bisect_left(strokes.starts, latest)]:
        n = stroke.note
        if max(n.end + player.tail, n.start + 2.0 + player.tail) < start / rate:
            continue
        sound = _choked(stroke, player, rate)
        at = round(n.start * rate) - start
        first, last = max(0, at), min(frames, at + len(sound))
        if last > first:
            out[first:last] += sound[first - at : last - at]
    return out


def _choked(stroke: Stroke, player: Player, rate: int) -> NDArray[Any]:
    """A stroke's sound, faded out where another one ends it."""
    n = stroke.note
    sound = _sound(player, rate, n.pitch, max(20, round(1000 * (n.end - n.start))), n.velocity, stroke.shade)
    if stroke.cut == float("inf"):
        return sound
    cut, fade = round(stroke.cut * rate) - round(n.start * rate), round(CHOKE * rate)
    if cut >= len(sound):
        return sound
    out = sound[: cut + fade].copy()
    out[cut:] *= np.linspace(1, 0, fade, dtype=np.float32)[: len(out) - cut, None]
    return out
