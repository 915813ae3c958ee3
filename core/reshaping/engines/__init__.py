"""Engines: how samples are made for a warp. Each reads any source along a path (:mod:`core.reshaping.engines.path`) and
yields blocks.

=============  ======================================================  =============================
engine         what it does                                            for
=============  ======================================================  =============================
cut            slices from attack to attack are moved whole            drums and percussion
blend          percussive and tonal parts each in their own way        guitars, piano, mixes
tonal          partial by partial, attacks kept                        strings, pads, organs
voice          grains in time that fit one another, attacks kept       voices, single melodies
=============  ======================================================  =============================
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from core.audio import Samples
from core.reshaping.engines.parting import PercussivePart, TonalPart
from core.reshaping.engines.path import path_of_slices, path_with_attacks
from core.reshaping.engines.similarity import by_similarity
from core.reshaping.engines.vocoder import by_partials
from core.reshaping.sources import SampleSource

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
EngineName = Literal["cut", "blend", "tonal", "voice"]
ENGINES: tuple[EngineName, ...] = get_args(EngineName)

#: Given a source, the anchors in samples of result and recording, and attacks in samples of the recording.
Engine = Callable[[SampleSource, Ints, Ints, Floats], Iterator[Samples]]


def _cut(source: SampleSource, target: Ints, places: Ints, attacks: Floats) -> Iterator[Samples]:
    return by_similarity(source, path_of_slices(target, places, attacks, source.rate))


def _tonal(source: SampleSource, target: Ints, places: Ints, attacks: Floats) -> Iterator[Samples]:
    return by_partials(source, path_with_attacks(target, places, attacks, source.rate))


def _voice(source: SampleSource, target: Ints, places: Ints, attacks: Floats) -> Iterator[Samples]:
    return by_similarity(source, path_with_attacks(target, places, attacks, source.rate))


def _blend(source: SampleSource, target: Ints, places: Ints, attacks: Floats) -> Iterator[Samples]:
    """Both parts along the same path, so that an attack's parts stay together; Driedger, Müller and Ewert (IEEE Signal
    Processing Letters, 2014)."""
    tonal = TonalPart(source)
    path = path_with_attacks(target, places, attacks, source.rate)
    return _sum(by_partials(tonal, path), by_similarity(PercussivePart(tonal), path))


def _sum(*streams: Iterator[Samples]) -> Iterator[Samples]:
    """Streams of blocks of any lengths, added up; as long as all go on."""
    held: list[Samples | None] = [None] * len(streams)
    while True:
        for i, stream in enumerate(streams):
            block = held[i]
            while block is None or not len(block):
                block = next(stream, None)
                if block is None:
                    return
            held[i] = block
        blocks = [b for b in held if b is not None]
        count = min(map(len, blocks))
        total = blocks[0][:count].copy()
        for block in blocks[1:]:
            total += block[:count]
        yield total
        held = [b[count:] for b in blocks]


BY_NAME: dict[EngineName, Engine] = {"cut": _cut, "blend": _blend, "tonal": _tonal, "voice": _voice}

__all__ = ["BY_NAME", "ENGINES", "Engine", "EngineName"]
