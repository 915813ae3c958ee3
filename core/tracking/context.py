"""The analysis context: all that a take's tracks say about beats, made once.

Finding beats, detecting a stretch again and looking for doubts all read the same context.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from core.errors import InputError
from core.listening.excerpt import excerpt, with_attacks_between
from core.listening.guides import LEAST_ATTACKS, GuideRank, fused_onset_envelope, given_weights, rank_guides
from core.listening.track import AnalysedTrack
from core.tracking.activation_offset import ActivationOffset, activation_offset
from core.tracking.beat_activation import activation
from core.tracking.beat_patterns import TakeBands
from core.tracking.downbeats import SummedEvidence
from core.tracking.ends import TakeSound
from core.tracking.parameters import ACTIVATION_HEIGHT, ACTIVATION_SHARE

Floats = NDArray[np.float64]


class NoBeats(InputError):
    """No beats could be found, in words for the engineer."""


@dataclass(frozen=True)
class AnalysisContext:
    """What a take's tracks say about its beats, 100 frames a second.

    Attributes
    ----------
    tracks : list of AnalysedTrack
        Those with at least a few attacks.
    ranks : list of GuideRank
        Their ranks as guides, in the same order.
    onset_envelope : (frames,)
        How strongly something starts, all tracks together, about 0 to 1.
    summed : SummedEvidence
        All tracks' evidence together.
    beat_activation : (frames, 2)
        Probabilities of a beat and of a downbeat (:mod:`core.tracking.beat_activation`).
    decoding_curve : (frames,)
        What beats are decoded on: the onset envelope and the activation as one.
    bands : TakeBands or None
        All tracks' sound, to read beat by beat (:mod:`core.tracking.beat_patterns`); None where that tells nothing.
    guides : mapping
        Weights by track name that the engineer gave.
    """

    tracks: list[AnalysedTrack]
    ranks: list[GuideRank]
    onset_envelope: Floats
    summed: SummedEvidence
    beat_activation: Floats
    decoding_curve: Floats
    bands: TakeBands | None = None
    guides: Mapping[str, float] | None = None
    _between: _Made = field(init=False, default_factory=dict, repr=False, compare=False)

    @cached_property
    def sound(self) -> TakeSound:
        """What tells the music's ends."""
        return TakeSound.of(self.tracks, len(self.onset_envelope))

    @cached_property
    def offset(self) -> ActivationOffset:
        """How much later than the activation says attacks come."""
        return activation_offset(self.tracks, self.ranks, self.onset_envelope, self.beat_activation[:, 0])

    def by_attacks(self) -> AnalysisContext:
        """The same without what networks say, for pulses finer than beats: they have learned to tell felt beats."""
        silent = np.zeros_like(self.beat_activation)
        return replace(self, beat_activation=silent, decoding_curve=self.onset_envelope, bands=None)

    def alone(self, start: int, stop: int) -> AnalysisContext:
        """The context of what lies from frame ``start``, a multiple of :data:`core.listening.excerpt.SLOW`, to before
        frame ``stop``, as if nothing else had been recorded: what is usual in a loud piece of music says nothing of a
        soft one. Its time 0 is at ``start``. Raises :class:`NoBeats`."""
        return build_context([excerpt(t, start, stop) for t in self.tracks], self.guides)

    def between(self, start: int, stop: int) -> AnalysisContext:
        """The same at its place in the recording, with nothing around it. Made once."""
        count = len(self.onset_envelope)

        def padded(curve: NDArray[Any]) -> NDArray[Any]:
            return np.pad(curve, [(start, count - start - len(curve)), *[(0, 0)] * (curve.ndim - 1)])

        if (start, stop) not in self._between:
            alone = self.alone(start, stop)
            assert alone.bands
            tracks = [with_attacks_between(t, start, stop) for t in self.tracks]
            self._between[start, stop] = replace(
                alone,
                tracks=[t for t in tracks if len(t.attacks) >= LEAST_ATTACKS],
                onset_envelope=padded(alone.onset_envelope),
                summed=SummedEvidence(*(padded(getattr(alone.summed, f.name)) for f in fields(SummedEvidence))),
                beat_activation=padded(alone.beat_activation),
                decoding_curve=padded(alone.decoding_curve),
                bands=alone.bands.in_silence(start, count),
            )
        return self._between[start, stop]


#: Contexts of parts by the first frame and the one behind.
_Made = dict[tuple[int, int], AnalysisContext]


def decoding_curve(onset_envelope: Floats, beat_activation: Floats, share: float = ACTIVATION_SHARE) -> Floats:
    """Onset envelope ``(frames,)`` and beat activation ``(frames, 2)`` as one curve; ``share`` of it is activation."""
    return (1 - share) * onset_envelope + share * ACTIVATION_HEIGHT * np.sqrt(beat_activation[:, 0])


def build_context(tracks: Sequence[AnalysedTrack], guides: Mapping[str, float] | None = None) -> AnalysisContext:
    """The context of a take; ``guides`` are weights by track name that take precedence. Raises :class:`NoBeats`."""
    usable = [t for t in tracks if len(t.attacks) >= LEAST_ATTACKS]
    if not usable:
        raise NoBeats("No beats found: the tracks hold hardly an attack. Is this the right material?")
    # tracks that the engineer gives no weight are left out of the activation too
    given = given_weights(usable, guides)
    weighted = usable if given is None else [t for t, w in zip(usable, given, strict=True) if w > 0]
    sound = [(t.evidence.bands, t.evidence.pitches) for t in weighted]
    with ThreadPoolExecutor(1) as pool:  # the networks beside the rest
        pending = pool.submit(activation, sound, max(len(t.evidence) for t in usable))
        ranks = rank_guides(usable, guides)
        envelope = fused_onset_envelope(usable, ranks)
        summed, bands = SummedEvidence.of(usable), TakeBands(sound)
        likely = pending.result()
    return AnalysisContext(usable, ranks, envelope, summed, likely, decoding_curve(envelope, likely), bands, guides)
