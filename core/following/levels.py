"""Levels, mutes and solos: how loud each lane of a mix sounds. The page's copy, which has to act at once, is
``levels.js``; both are tested on the same table (``tests/levels.json``)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol


class Lane(Protocol):
    """Whatever has a level (``gain``, in dB), mute and solo."""

    @property
    def gain(self) -> float: ...

    @property
    def muted(self) -> bool: ...

    @property
    def solo(self) -> bool: ...


def factors(lanes: Sequence[Lane]) -> list[float]:
    """What each lane's samples are multiplied by. Mute silences; where any lane is solo, only solo lanes sound (common
    practice)."""
    any_solo = any(lane.solo for lane in lanes)
    return [0.0 if lane.muted or (any_solo and not lane.solo) else 10 ** (lane.gain / 20) for lane in lanes]
