"""The lessons: a small temporal convolutional network learns to tell beats and downbeats in made-up performances.

The shape is that of Davies and Böck 2019 ("Temporal convolutional networks for musical audio beat tracking"): blocks
of dilated convolutions over time, each looking twice as far as the one before; here far smaller and on our features.

``python -m training.learn FOLDER PASSES [WEIGHTS]`` learns from the lessons in a folder.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from multiprocessing import Pool
from pathlib import Path

import numpy as np
import torch
from torch import nn
from torch.nn import functional

from core.beats.features import COUNT, RATE, STEP, features, in_steps
from core.beats.learned import WEIGHTS
from core.listening.spectrum import FRAME_RATE
from training.lessons import Times, read, targets

CHANNELS, KERNEL, BLOCKS = 32, 5, 9
#: Stretches a step, and how long each is, in steps of the network.
BATCH, LENGTH = 16, int(24 * RATE)
RATE_OF_LEARNING = 4e-3
#: Every so many lessons one is not learned from.
HELD = 20


class Ear(nn.Module):
    """Features ``(batch, COUNT, steps)`` to logits ``(batch, 2, steps)``: beat and downbeat."""

    def __init__(self) -> None:
        super().__init__()
        self.first = nn.Conv1d(COUNT, CHANNELS, KERNEL, padding=KERNEL // 2)
        self.wide = nn.ModuleList(
            nn.Conv1d(CHANNELS, CHANNELS, KERNEL, padding=2**k * (KERNEL // 2), dilation=2**k) for k in range(BLOCKS)
        )
        self.mix = nn.ModuleList(nn.Conv1d(CHANNELS, CHANNELS, 1) for _ in range(BLOCKS))
        self.last = nn.Conv1d(CHANNELS, 2, 1)
        self.drop = nn.Dropout(0.1)

    def forward(self, x: torch.Tensor) -> torch.Tensor:
        x = functional.relu(self.first(x))
        skip = torch.zeros_like(x)
        for wide, mix in zip(self.wide, self.mix, strict=True):
            y = mix(self.drop(functional.relu(wide(x))))
            x, skip = x + y, skip + y
        return self.last(functional.relu(skip))


@dataclass(frozen=True)
class Page:
    """A lesson with its features, 100 frames a second."""

    features: np.ndarray
    times: Times


def page(path: Path) -> Page:
    of = read(path)
    shown = features(of.curve, of.mix.flux, of.mix.energy, of.mix.chroma)
    return Page(shown.astype(np.float16), of.times)


def train(pages: list[Page], held: list[Page], passes: int) -> Ear:
    """Learn from ``pages``; ``held`` are only listened to."""
    torch.manual_seed(1)
    rng = np.random.default_rng(1)
    ear = Ear()
    steps = passes * (len(pages) // BATCH)
    optimiser = torch.optim.AdamW(ear.parameters(), lr=RATE_OF_LEARNING, weight_decay=1e-4)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, RATE_OF_LEARNING, total_steps=steps, pct_start=0.15)
    for k in range(passes):
        ear.train()
        order, total = rng.permutation(len(pages)), 0.0
        for b in range(0, len(order) // BATCH * BATCH, BATCH):
            cuts = [_some(rng, pages[i]) for i in order[b : b + BATCH]]
            x, y, m = (torch.from_numpy(np.stack(a)) for a in zip(*cuts, strict=True))
            loss = _loss(ear(x), y, m)
            optimiser.zero_grad()
            loss.backward()
            nn.utils.clip_grad_norm_(ear.parameters(), 1.0)
            optimiser.step()
            schedule.step()
            total += float(loss.detach())
        print(f"pass {k + 1}: {total * BATCH / len(order):.4f}, held {held_loss(ear, held):.4f}", flush=True)
    return ear.eval()


def _cut(
    of: Page, start: float = 0.0, pace: float = 1.0, length: int | None = None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """``length`` steps of a lesson from the frame ``start`` on, played ``pace`` times as fast: features, what the
    network should say, and where that counts."""
    frames = STEP * length if length else len(of.features) // STEP * STEP
    at = start + pace * np.arange(frames)
    low = np.minimum(at.astype(int), len(of.features) - 2)
    share = np.clip(at - low, 0, 1).astype(np.float32)[:, None]
    shown = (1 - share) * of.features[low] + share * of.features[low + 1]
    inside = at < len(of.features) - 1
    shown[~inside] = 0
    seconds = at[::STEP] / FRAME_RATE
    wanted, counts = targets(of.times, seconds)
    return in_steps(shown).T.astype(np.float32), wanted, counts * inside[::STEP]


def _some(rng: np.random.Generator, of: Page) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A stretch somewhere, faster or slower; now and then with one of its features missing."""
    pace = float(np.exp(rng.uniform(-0.16, 0.16)))
    start = rng.uniform(0, max(0.0, len(of.features) - STEP * LENGTH * pace))
    x, wanted, counts = _cut(of, start, pace, LENGTH)
    if rng.random() < 0.3:
        x[rng.integers(COUNT)] = 0
    return x, wanted, counts


def _loss(said: torch.Tensor, wanted: torch.Tensor, counts: torch.Tensor) -> torch.Tensor:
    each = functional.binary_cross_entropy_with_logits(said, wanted, reduction="none")
    return (each.sum(dim=1) * counts).sum() / counts.sum()


def held_loss(ear: Ear, held: list[Page]) -> float:
    ear.eval()
    with torch.no_grad():
        return float(np.mean([_loss(ear(x[None]), y[None], m[None]) for x, y, m in map(_whole, held)]))


def _whole(of: Page) -> tuple[torch.Tensor, ...]:
    return tuple(torch.from_numpy(a) for a in _cut(of))


def weights(ear: Ear) -> dict[str, np.ndarray]:
    """Plain arrays, for the application to use without this library."""
    out = {"first": ear.first.weight, "first_bias": ear.first.bias, "last": ear.last.weight, "last_bias": ear.last.bias}
    out["wide"] = torch.stack([w.weight for w in ear.wide])
    out["wide_bias"] = torch.stack([w.bias for w in ear.wide])
    out["mix"] = torch.stack([w.weight for w in ear.mix])
    out["mix_bias"] = torch.stack([w.bias for w in ear.mix])
    return {k: v.detach().numpy().astype(np.float32) for k, v in out.items()}


if __name__ == "__main__":
    files = sorted(Path(sys.argv[1]).glob("*.npz"))
    with Pool() as pool:
        read_all = pool.map(page, files, chunksize=20)
    learned = train([p for i, p in enumerate(read_all) if i % HELD], read_all[::HELD], int(sys.argv[2]))
    np.savez(sys.argv[3] if len(sys.argv) > 3 else WEIGHTS, **weights(learned))
