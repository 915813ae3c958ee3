"""Learning what is played beat by beat (:mod:`core.tracking.beat_patterns`).

``python -m training.patterns FOLDER`` shows a network the performances that the beat activation learns from: each with
its true beats and with the usual confusions of them (half, double, 2:3, 3:2, off-beats). It is told which chain is the
true one, and which of its beats open a bar. Writes the weights that the application uses.
"""

from __future__ import annotations

import argparse
import os
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from multiprocessing import Pool
from pathlib import Path

import numpy as np
import torch
from numpy.typing import NDArray
from torch import nn
from torch.nn import functional

from core.listening.rates import FRAME_RATE
from core.tracking.beat_patterns import INPUTS, LEVELS, PARTS, RISES, WEIGHTS, TakeBands
from training.examples import STEPS, Example, read
from training.learn import HELD

WIDTH, TAPS, LAYERS = 64, 5, 4
BATCH = 24
#: Beats between chains, so that none sees another.
GAP = 2 * sum(2**k for k in range(LAYERS))
#: Beats stray so many frames (a spread), as those of a tracker do.
STRAY = 1.0
#: The slowest and the fastest wrong tempo that is shown, beats a minute.
RANGE = (33.0, 290.0)


class Network(nn.Module):
    """Chains one after another, ``(beats, INPUTS)``, to ``(beats, 2)``: the pulse one counts, a bar that opens."""

    def __init__(self) -> None:
        super().__init__()
        self.dense = nn.Linear(INPUTS, WIDTH)
        self.conv = nn.ModuleList(
            nn.Conv1d(WIDTH, WIDTH, TAPS, padding=2**k * (TAPS // 2), dilation=2**k) for k in range(LAYERS)
        )
        self.last = nn.Linear(WIDTH, 2)
        self.drop = nn.Dropout(0.3)

    def forward(self, x: torch.Tensor, inside: torch.Tensor) -> torch.Tensor:
        """``inside``: 1 for beats, 0 for what parts the chains, ``(beats,)``."""
        x = functional.relu(self.dense(self.drop(x))) * inside[:, None]
        x = x.T[None]
        for conv in self.conv:
            x = x + self.drop(functional.relu(conv(x))) * inside
        return self.last(x[0].T)


def confusions(beats: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """Wrong chains that trackers often find in place of ``beats``, where their tempo lies in :data:`RANGE`."""
    k = np.arange(len(beats), dtype=np.float64)
    places = [k[0::2], k[1::2], np.arange(0, k[-1] + 1e-9, 0.5), k[:-1] + 0.5]
    places += [np.arange(first, k[-1] + 1e-9, 1.5) for first in (0.0, 0.5, 1.0)]
    places += [np.arange(0, k[-1] + 1e-9, 1 / 1.5), np.arange(0, k[-1] + 1e-9, 1 / 3)]
    places += [k[first::3] for first in range(3)]
    out = [np.interp(p, k, beats) for p in places if len(p) >= 8]
    return [c for c in out if RANGE[0] < 60 / np.median(np.diff(c)) < RANGE[1]]


@dataclass
class Reading:
    """One performance as it is heard in one way: ``chains`` of beats as the network sees them, the true one first;
    which beats of it open a bar, where that is known."""

    chains: list[NDArray[np.float16]]
    opens: NDArray[np.bool_] | None


def readings(of: Example, seed: int) -> list[Reading]:
    """The finished mix, all tracks, and some of them."""
    rng = np.random.default_rng((11, seed))
    single = list(range(1, len(of.tracks)))
    ways = [[0]]
    if len(single) > 1:
        ways += [single, rng.choice(single, int(rng.integers(1, len(single))), replace=False).tolist()]
    out = []
    for which in ways:
        take = TakeBands([tuple(x.astype(np.float32) / STEPS for x in of.tracks[k]) for k in which])
        end = (len(take.rises) - 2) / FRAME_RATE
        beats = of.beats[of.beats < end]
        if len(beats) < 12:
            continue
        chains = [beats, *confusions(beats)]
        frames = [c * FRAME_RATE + rng.normal(0, STRAY, len(c)) for c in chains]
        seen = [take.along(np.maximum.accumulate(f)).astype(np.float16) for f in frames]
        out.append(Reading(seen, of.first[: len(beats)] if of.bars_known else None))
    return out


def _prepared(path: Path) -> list[Reading]:
    return readings(read(path), int(path.stem))


@dataclass
class Batch:
    """Chains one after another with gaps between, ``x`` ``(beats, INPUTS)``; ``chain``: of which chain each beat is, -1
    in a gap; ``of``: of which reading each chain is; ``true``: the true chain of each; ``opens``: which beats open a
    bar (1 or 0), and -1 where that is not known."""

    x: torch.Tensor
    chain: torch.Tensor
    of: torch.Tensor
    true: torch.Tensor
    opens: torch.Tensor


def _altered(rng: np.random.Generator) -> Callable[[NDArray[np.float32]], NDArray[np.float32]]:
    """Another colour of sound, bands missing, another pace: the same for all chains of a reading."""
    louder = np.exp(rng.normal(0, 0.3, RISES)).astype(np.float32)
    if rng.random() < 0.3:
        louder[rng.integers(RISES)] = 0
    level = rng.normal(0, 0.3, LEVELS).astype(np.float32)
    faster = np.float32(rng.uniform(-0.2, 0.2))
    rises, levels = PARTS * RISES, PARTS * (RISES + LEVELS)

    def alter(x: NDArray[np.float32]) -> NDArray[np.float32]:
        x = x.copy()
        x[:, :rises] *= np.tile(louder, PARTS)
        x[:, rises:levels] += np.tile(level, PARTS)
        x[:, -1] += faster
        return x

    return alter


def batch_of(some: list[Reading], rng: np.random.Generator | None) -> Batch:
    """All chains of some readings. With ``rng``: a stretch of each, of 24 to 160 true beats, altered."""
    x, chain, of, true, opens = [], [], [], [], []
    for k, r in enumerate(some):
        first, share = 0.0, 1.0
        if rng is not None:
            share = min(1.0, rng.uniform(24, 160) / len(r.chains[0]))
            first = rng.uniform(0, 1 - share)
        alter = _altered(rng) if rng is not None else np.asarray
        true.append(len(of))
        for j, c in enumerate(r.chains):
            a = int(first * len(c))
            b = max(int((first + share) * len(c)), a + 2)
            known = j == 0 and r.opens is not None
            x += [alter(c[a:b].astype(np.float32)), np.zeros((GAP, INPUTS), np.float32)]
            chain += [np.full(len(c[a:b]), len(of)), np.full(GAP, -1)]
            opens += [r.opens[a:b].astype(np.float32) if known else np.full(len(c[a:b]), -1.0), np.full(GAP, -1.0)]
            of.append(k)
    arrays = np.concatenate(x), np.concatenate(chain), np.array(of), np.array(true)
    return Batch(*map(torch.from_numpy, arrays), torch.from_numpy(np.concatenate(opens).astype(np.float32)))


def losses(net: Network, b: Batch, middle: torch.Tensor, spread: torch.Tensor) -> tuple[torch.Tensor, ...]:
    """Loss of the true chain among the others, loss of the bars' openings, and in how many the true chain wins."""
    inside = (b.chain >= 0).float()
    said = net((b.x - middle) / spread, inside)
    beats = b.chain >= 0
    score = torch.zeros(len(b.of)).index_add(0, b.chain[beats], said[beats, 0]) / torch.bincount(b.chain[beats])
    nats = torch.stack([score[true] - torch.logsumexp(score[b.of == k], 0) for k, true in enumerate(b.true)])
    won = torch.stack([(score[true] >= score[b.of == k].max()).float() for k, true in enumerate(b.true)])
    known = b.opens >= 0
    bars = (
        functional.binary_cross_entropy_with_logits(said[known, 1], b.opens[known]) if known.any() else nats.sum() * 0
    )
    return -nats.mean(), bars, won.mean()


def weights(net: Network, middle: torch.Tensor, spread: torch.Tensor) -> dict[str, np.ndarray]:
    """Plain arrays, as :func:`core.tracking.beat_patterns.read_pattern` takes them."""
    out = {
        "middle": middle,
        "spread": spread,
        "dense": net.dense.weight.T,
        "dense_bias": net.dense.bias,
        "conv": torch.stack([c.weight for c in net.conv]),
        "conv_bias": torch.stack([c.bias for c in net.conv]),
        "last": net.last.weight.T,
        "last_bias": net.last.bias,
    }
    return {k: v.detach().numpy().astype(np.float16) for k, v in out.items()}


def _batches(some: list[Reading], rng: np.random.Generator) -> Iterator[Batch]:
    """All readings in random order. The next batch is prepared while the network learns from this one."""
    order = rng.permutation(len(some))
    groups = [order[k : k + BATCH] for k in range(0, len(order) - BATCH + 1, BATCH)]
    with ThreadPoolExecutor(1) as pool:
        waiting = pool.submit(batch_of, [some[i] for i in groups[0]], rng)
        for group in [*groups[1:], None]:
            now = waiting.result()
            if group is not None:
                waiting = pool.submit(batch_of, [some[i] for i in group], rng)
            yield now


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__)
    ask.add_argument("folder", type=Path)
    ask.add_argument("--rounds", type=int, default=14)
    ask.add_argument("--export", type=Path, default=WEIGHTS)
    a = ask.parse_args()
    torch.set_num_threads(os.cpu_count() or 1)  # one network learns: all cores may multiply for it
    torch.manual_seed(3)
    files = sorted(a.folder.glob("*.npz"))
    with Pool(2) as pool:
        prepared = pool.map(_prepared, files, chunksize=20)
    held = [r for f, rs in zip(files, prepared, strict=True) for r in rs if int(f.stem) % HELD == 0]
    seen = [r for f, rs in zip(files, prepared, strict=True) for r in rs if int(f.stem) % HELD]
    rng = np.random.default_rng(5)
    some = np.concatenate([seen[i].chains[0] for i in rng.choice(len(seen), 300)]).astype(np.float32)
    middle, spread = torch.from_numpy(some.mean(0)), torch.from_numpy(some.std(0) + 0.05)
    print(len(seen), "readings,", len(held), "held", flush=True)
    net = Network()
    optimiser = torch.optim.AdamW(net.parameters(), lr=2e-3, weight_decay=2e-2)
    total = a.rounds * (len(seen) // BATCH)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, 3e-3, total_steps=total + 1)
    began = time.time()
    for number in range(a.rounds):
        net.train()
        told = []
        for b in _batches(seen, rng):
            level, bars, won = losses(net, b, middle, spread)
            optimiser.zero_grad()
            (level + bars).backward()
            nn.utils.clip_grad_norm_(net.parameters(), 1.0)
            optimiser.step()
            schedule.step()
            told.append([float(one.detach()) for one in (level, bars, won)])
        net.eval()
        with torch.no_grad():
            own = [[float(one) for one in losses(net, batch_of([r], None), middle, spread)] for r in held]
        print(
            number,
            np.mean(told, 0).round(3),
            "held",
            np.mean(own, 0).round(3),
            f"{time.time() - began:.0f} s",
            flush=True,
        )
        np.savez(a.export, **weights(net, middle, spread))


if __name__ == "__main__":
    main()
