"""Levels, mutes, solos and pans: how loud each lane of a mix sounds on either side. The page's copy, which has to act
at once, is ``levels.js``; both are tested on the same table (``tests/levels.json``)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol


class Lane(Protocol):
    """Whatever has a level (``gain``, in dB), mute, solo and pan (-1 left to 1 right)."""

    @property
    def gain(self) -> float: ...

    @property
    def muted(self) -> bool: ...

    @property
    def solo(self) -> bool: ...

    @property
    def pan(self) -> float: ...


def factors(lanes: Sequence[Lane]) -> list[float]:
    """What each lane's samples are multiplied by. Mute silences; where any lane is solo, only solo lanes sound (common
    practice)."""
    any_solo = any(lane.solo for lane in lanes)
    return [0.0 if lane.muted or (any_solo and not lane.solo) else 10 ** (lane.gain / 20) for lane in lanes]


def sides(pan: float) -> tuple[float, float]:
    """By what a lane is multiplied on the left and on the right. The nearer side keeps its level, so that in the middle
    a lane sounds as it is; of a stereo lane this is the balance."""
    return min(1.0, 1 - pan), min(1.0, 1 + pan)
