"""The path of a piece through the recording, in samples: straight pieces, and zones around attacks that keep the
recording's own pace."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: Seconds kept of an attack before and after it where all the rest is stretched evenly.
KEPT_BEFORE, KEPT_AFTER = 0.003, 0.035
#: Of the room between two attacks, at most so much is kept before and after one.
_BEFORE_SHARE, _AFTER_SHARE = 0.3, 0.6
#: Where slices are moved whole: seconds of a slice's end that are stretched to fill a gap, at most; their largest share
#: of the slice; seconds over which a slice melts into the next.
_TAIL, _TAIL_SHARE, _MELT = 0.12, 0.5, 0.005


@dataclass(frozen=True)
class Path:
    """Sample ``target[i]`` of the result comes from sample ``source[i]`` of the recording; rising, two or more.

    ``zone_target``, ``zone_source``: where the zones around attacks begin, ``zone_frames``: how long they last; their
    attack lies at most ``before`` samples on.
    """

    target: Floats
    source: Floats
    zone_target: Ints
    zone_source: Ints
    zone_frames: Ints
    rate: int

    @property
    def before(self) -> int:
        """Samples of a zone before its attack, at most."""
        return max(1, round(KEPT_BEFORE * self.rate))


def plain_path(target: Ints, source: Ints, rate: int) -> Path:
    """A path without zones."""
    none = np.zeros(0, dtype=np.int64)
    return Path(target.astype(np.float64), source.astype(np.float64), none, none, none, rate)


def path_with_attacks(target: Ints, source: Ints, attacks: Floats, rate: int) -> Path:
    """The path through the anchors with a piece at the recording's own pace around each of ``attacks`` (samples of the
    recording), as long as its neighbours leave room."""
    plain = plain_path(target, source, rate)
    edges_in, edges_out = _edges(plain, attacks)
    if len(edges_in) == 2:
        return plain
    room = np.minimum(np.diff(edges_in), np.diff(edges_out))
    after = np.minimum(KEPT_AFTER * rate, _AFTER_SHARE * room[1:])
    return _with_zones(plain, edges_in[1:-1], edges_out[1:-1], _before(room, rate), after)


def path_of_slices(target: Ints, source: Ints, attacks: Floats, rate: int) -> Path:
    """The path on which every slice from attack to attack is moved whole: where the next attack comes later than it
    did, the end of the slice is stretched to fill the gap; where it comes sooner, the end is left out."""
    edges_in, edges_out = _edges(plain_path(target, source, rate), attacks)
    if len(edges_in) == 2:
        return plain_path(target, source, rate)
    long_in, long_out = np.diff(edges_in), np.diff(edges_out)
    room = np.minimum(long_in, long_out)
    before = _before(room, rate)
    tail = np.minimum(_TAIL * rate, _TAIL_SHARE * long_in)
    next_before = np.concatenate((before[1:], [0.0]))
    after = np.where(
        long_out[1:] >= long_in[1:],
        long_in[1:] - tail[1:],
        np.maximum(room[1:] - next_before - _MELT * rate, 0.5 * room[1:]),
    )
    ends = plain_path(target[[0, -1]], source[[0, -1]], rate)
    return _with_zones(ends, edges_in[1:-1], edges_out[1:-1], before, after)


def _edges(plain: Path, attacks: Floats) -> tuple[Floats, Floats]:
    """The ends of a path and the attacks between them, in samples of the recording and of the result. What is nearer to
    an end than half a sample is that end."""
    samples = np.round(attacks)
    inside = attacks[(samples > plain.source[0]) & (samples < plain.source[-1])]
    edges = np.concatenate((plain.source[:1], inside, plain.source[-1:]))
    return edges, np.interp(edges, plain.source, plain.target)


def _before(room: Floats, rate: int) -> Floats:
    """Samples kept before each attack; ``room``: between one edge and the next."""
    return np.minimum(KEPT_BEFORE * rate, _BEFORE_SHARE * room[:-1])


def _with_zones(plain: Path, at_in: Floats, at_out: Floats, before: Floats, after: Floats) -> Path:
    """A piece of slope one from ``before`` to ``after`` each attack, on whole samples, in place of what was there."""
    source, target = np.round(at_in), np.round(at_out)
    before, after = np.floor(before), np.maximum(1, np.floor(after))
    starts_in, ends_in, starts_out, ends_out = source - before, source + after, target - before, target + after
    # anchors within a zone, or that its pace has overtaken, give way to it
    zone = np.searchsorted(starts_out, plain.target, side="right")
    low_out, low_in = np.concatenate(([-np.inf], ends_out))[zone], np.concatenate(([-np.inf], ends_in))[zone]
    high_out, high_in = np.concatenate((starts_out, [np.inf]))[zone], np.concatenate((starts_in, [np.inf]))[zone]
    free = (plain.target > low_out) & (plain.source > low_in) & (plain.target < high_out) & (plain.source < high_in)
    out = np.concatenate([starts_out, ends_out, plain.target[free]])
    order = np.argsort(out, kind="stable")
    return replace(
        plain,
        target=out[order],
        source=np.concatenate([starts_in, ends_in, plain.source[free]])[order],
        zone_target=starts_out.astype(np.int64),
        zone_source=starts_in.astype(np.int64),
        zone_frames=(before + after).astype(np.int64),
    )
