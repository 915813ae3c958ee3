"""Learning the beat activation: a network is shown made-up performances and told where beats and downbeats are.

The trunk is that of Davies and Böck 2019 ("Temporal convolutional networks for musical audio beat tracking"): blocks
of dilated convolutions over time, each looking twice as far as the one before. In front of it one encoder for every
track, pooled over the tracks.

``python -m training.learn FOLDER --minutes 90`` continues from the checkpoint in the folder if it exists, so that
learning can be done in pieces; ``--export`` writes the weights that the application uses.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Iterator
from dataclasses import dataclass
from multiprocessing import Pool
from pathlib import Path

import numpy as np
import torch
from torch import nn
from torch.nn import functional

from core.listening.pitches import PITCH_RATE
from core.listening.rates import FRAME_RATE
from core.listening.spectrum import CENTRES
from core.tracking.beat_activation import STEP, STEP_RATE, WEIGHTS, track_inputs
from training.examples import STEPS, Example, read

PITCHES = 54
INPUTS = 2 * 2 * len(CENTRES) + PITCHES
CODE, CHANNELS, KERNEL, BLOCKS = 40, 64, 5, 10
#: Examples a step, and how long a stretch of each, in steps of the network.
BATCH, LENGTH = 12, int(24 * STEP_RATE)
RATE_OF_LEARNING = 2.5e-3
#: One example in this many is held out for validation.
HELD = 25
#: Seconds on either side of a beat within which the network should find it.
WIDTH = 0.045
#: At most so many tracks of an example at a time.
TRACKS = 4


class Network(nn.Module):
    """Inputs of all tracks ``(tracks, INPUTS, steps)`` and how many tracks each example has, to logits ``(batch, 2,
    steps)``: beat and downbeat."""

    def __init__(self) -> None:
        super().__init__()
        self.encoder = nn.Conv1d(INPUTS, CHANNELS, 3, padding=1)
        self.code = nn.Conv1d(CHANNELS, CODE, 1)
        self.join = nn.Conv1d(2 * CODE, CHANNELS, 1)
        self.wide = nn.ModuleList(
            nn.Conv1d(CHANNELS, CHANNELS, KERNEL, padding=2**k * (KERNEL // 2), dilation=2**k) for k in range(BLOCKS)
        )
        self.mix = nn.ModuleList(nn.Conv1d(CHANNELS, CHANNELS, 1) for _ in range(BLOCKS))
        self.last = nn.Conv1d(CHANNELS, 2, 1)
        self.drop = nn.Dropout(0.1)

    def forward(self, x: torch.Tensor, counts: list[int]) -> torch.Tensor:
        code = functional.relu(self.code(functional.relu(self.encoder(x))))
        parts = torch.split(code, counts)
        pooled = torch.stack([torch.cat([p.mean(dim=0), p.amax(dim=0)]) for p in parts])
        x = functional.relu(self.join(pooled))
        skip = torch.zeros_like(x)
        for wide, mix in zip(self.wide, self.mix, strict=True):
            y = mix(self.drop(functional.relu(wide(x))))
            x, skip = x + y, skip + y
        return self.last(functional.relu(skip))


def targets(of: Example, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """What the network should say at the times ``at`` (seconds) and how much that counts, both ``(2, steps)``."""
    out = []
    for times in (of.beats, of.beats[of.first]):
        k = np.clip(np.searchsorted(times, at), 1, len(times) - 1)
        away = np.minimum(np.abs(at - times[k - 1]), np.abs(times[k] - at))
        out.append(np.maximum(0, 1 - away / WIDTH))
    beat = float(of.beats[-1] - of.beats[-2])
    known = (at < of.lead - 0.1) | ((at > of.beats[0] - 0.1) & (at < of.beats[-1] + 0.4 * beat))
    known = (known | (at > of.over + 0.5 * beat)).astype(np.float32)
    return np.stack(out).astype(np.float32), np.stack([known, known * of.bars_known])


def cut(
    of: Example, which: list[int], start: float = 0.0, pace: float = 1.0, length: int | None = None, transposed: int = 0
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """``length`` steps of an example from the frame ``start`` on, played ``pace`` times as fast: inputs of the tracks
    ``which``, what the network should say, and how much that counts."""
    total = len(of.tracks[0][0])
    frames = STEP * (length or total // STEP)
    at = start + pace * np.arange(frames)
    inside = at < total - 1
    inputs = []
    for k in which:
        bands, pitches = of.tracks[k]
        here = _between(bands, at)
        tones = _between(pitches, at[:: round(FRAME_RATE / PITCH_RATE)] * PITCH_RATE / FRAME_RATE)
        if transposed:
            tones = np.roll(tones, transposed, axis=1)
        here[~inside] = 0
        inputs.append(track_inputs(here, tones).T)
    seconds = at[::STEP] / FRAME_RATE
    wanted, counts = targets(of, seconds)
    return np.stack(inputs), wanted, counts * inside[::STEP]


def _between(x: np.ndarray, at: np.ndarray) -> np.ndarray:
    low = np.clip(at.astype(int), 0, len(x) - 2)
    share = np.clip(at - low, 0, 1).astype(np.float32)[:, None]
    return ((1 - share) * x[low] + share * x[low + 1]) * np.float32(1 / STEPS)


def some(rng: np.random.Generator, of: Example) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A stretch somewhere, faster or slower: the finished mix, or some of the tracks."""
    pace = float(np.exp(rng.uniform(-0.16, 0.16)))
    start = rng.uniform(0, max(1.0, len(of.tracks[0][0]) - STEP * LENGTH * pace))
    single = list(range(1, len(of.tracks)))
    if not single or rng.random() < 0.45:
        which = [0]
    else:
        most = min(TRACKS, len(single))
        count = most if rng.random() < 0.6 else int(rng.integers(1, most + 1))
        which = rng.choice(single, count, replace=False).tolist()
    x, wanted, counts = cut(of, which, start, pace, LENGTH, int(rng.integers(-3, 4)))
    bands = len(CENTRES)
    if rng.random() < 0.5:  # another colour of sound
        tilt = np.interp(np.arange(bands), np.linspace(0, bands - 1, 5), rng.normal(0, 0.3, 5)).astype(np.float32)
        for k in (0, 2 * bands):
            x[:, k : k + bands] += tilt[:, None]
    if rng.random() < 0.3:  # some bands missing
        first, count = int(rng.integers(bands)), int(rng.integers(1, 8))
        for k in (0, bands, 2 * bands, 3 * bands):
            x[:, k + first : k + min(bands, first + count)] = 0 if k % (2 * bands) else -3
    return x, wanted, counts


def loss_of(said: torch.Tensor, wanted: torch.Tensor, counts: torch.Tensor) -> torch.Tensor:
    each = functional.binary_cross_entropy_with_logits(said, wanted, reduction="none")
    return (each * counts).sum() / counts[:, 0].sum()


@dataclass
class Batch:
    x: torch.Tensor
    counts: list[int]
    wanted: torch.Tensor
    weights: torch.Tensor


def batch_of(cuts: list[tuple[np.ndarray, np.ndarray, np.ndarray]]) -> Batch:
    x = torch.from_numpy(np.concatenate([c[0] for c in cuts]))
    wanted, weights = (torch.from_numpy(np.stack([c[i] for c in cuts]).astype(np.float32)) for i in (1, 2))
    return Batch(x, [len(c[0]) for c in cuts], wanted, weights)


_examples: list[Example] = []


def _prepared(job: tuple[int, list[int]]) -> Batch:
    seed, which = job
    rng = np.random.default_rng(seed)
    torch.set_num_threads(1)
    return batch_of([some(rng, _examples[i]) for i in which])


def held_loss(net: Network, held: list[Example]) -> tuple[float, float]:
    """Mean loss over whole unlearned examples, as mixes and as tracks."""
    net.eval()
    out = []
    with torch.no_grad():
        for which in (lambda e: [0], lambda e: list(range(1, len(e.tracks))) or [0]):
            losses = []
            for e in held:
                b = batch_of([cut(e, which(e))])
                losses.append(float(loss_of(net(b.x, b.counts), b.wanted, b.weights)))
            out.append(float(np.mean(losses)))
    return out[0], out[1]


def weights(net: Network) -> dict[str, np.ndarray]:
    """Plain arrays, for the application to use without this library."""
    out = {}
    for name in ("encoder", "code", "join", "last"):
        layer = getattr(net, name)
        out[name], out[name + "_bias"] = layer.weight, layer.bias
    for name in ("wide", "mix"):
        layers = getattr(net, name)
        out[name] = torch.stack([w.weight for w in layers])
        out[name + "_bias"] = torch.stack([w.bias for w in layers])
    return {k: v.detach().numpy().astype(np.float16) for k, v in out.items()}


def begin_with(net: Network, path: Path) -> None:
    """Load exported weights into ``net``, to go on from where somebody else stopped."""
    with np.load(path) as d:
        kept = {k: torch.from_numpy(d[k].astype(np.float32)) for k in d.files}
    with torch.no_grad():
        for name in ("encoder", "code", "join", "last"):
            layer = getattr(net, name)
            layer.weight.copy_(kept[name])
            layer.bias.copy_(kept[name + "_bias"])
        for name in ("wide", "mix"):
            for k, layer in enumerate(getattr(net, name)):
                layer.weight.copy_(kept[name][k])
                layer.bias.copy_(kept[name + "_bias"][k])


def keep(path: Path, net: Network, optimiser: torch.optim.Optimizer, done: int) -> None:
    """Writes the checkpoint from which learning goes on."""
    partial = path.with_suffix(".partial")
    torch.save({"net": net.state_dict(), "optimiser": optimiser.state_dict(), "done": done}, partial)
    partial.replace(path)


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__)
    ask.add_argument("folder", type=Path)
    ask.add_argument("--minutes", type=float, default=60)
    ask.add_argument("--checkpoint", type=Path, default=Path("build/checkpoint.pt"))
    ask.add_argument("--steps", type=int, default=6000, help="steps over which the rate of learning falls")
    ask.add_argument("--threads", type=int, default=1)
    ask.add_argument("--export", type=Path, nargs="?", const=WEIGHTS)
    ask.add_argument("--begin-with", type=Path, help="exported weights, where there is no checkpoint yet")
    ask.add_argument("--most", type=int, default=100_000)
    a = ask.parse_args()
    torch.set_num_threads(a.threads)
    torch.manual_seed(1)
    net = Network()
    optimiser = torch.optim.AdamW(net.parameters(), lr=RATE_OF_LEARNING, weight_decay=1e-4)
    done = 0
    if a.begin_with and not a.checkpoint.exists():
        begin_with(net, a.begin_with)
    if a.checkpoint.exists():
        kept = torch.load(a.checkpoint, weights_only=False)
        net.load_state_dict(kept["net"])
        optimiser.load_state_dict(kept["optimiser"])
        done = kept["done"]
    end = time.time() + 60 * a.minutes
    files = sorted(a.folder.glob("*.npz"))[: a.most]
    with Pool(2) as pool:
        everything = pool.map(read, files, chunksize=20)
    held = [e for f, e in zip(files, everything, strict=True) if int(f.stem) % HELD == 0]
    _examples[:] = [e for f, e in zip(files, everything, strict=True) if int(f.stem) % HELD]
    print(len(_examples), "examples,", len(held), "held; at step", done, flush=True)
    total, since, began = 0.0, 0, time.time()
    with Pool(1) as pool:

        def jobs() -> Iterator[tuple[int, list[int]]]:
            k = done
            while True:
                rng = np.random.default_rng(k)
                yield k, rng.integers(len(_examples), size=BATCH).tolist()
                k += 1

        waiting, source = [], jobs()
        while time.time() < end and done < a.steps:
            while len(waiting) < 4:
                waiting.append(pool.apply_async(_prepared, (next(source),)))
            b = waiting.pop(0).get()
            share = done / a.steps
            rate = RATE_OF_LEARNING * (min(1.0, done / 200) * 0.5 * (1 + np.cos(np.pi * min(1.0, share))) + 0.002)
            for group in optimiser.param_groups:
                group["lr"] = rate
            net.train()
            loss = loss_of(net(b.x, b.counts), b.wanted, b.weights)
            optimiser.zero_grad()
            loss.backward()
            nn.utils.clip_grad_norm_(net.parameters(), 1.0)
            optimiser.step()
            total, since, done = total + float(loss.detach()), since + 1, done + 1
            if done % 200 == 0 or done == a.steps:
                mix, tracks = held_loss(net, held)
                spent = time.time() - began
                print(
                    f"step {done}: {total / since:.4f}, held mixes {mix:.4f}, tracks {tracks:.4f}, {spent:.0f} s",
                    flush=True,
                )
                total, since = 0.0, 0
                keep(a.checkpoint, net, optimiser, done)
    keep(a.checkpoint, net, optimiser, done)
    if a.export:
        np.savez(a.export, **weights(net))


if __name__ == "__main__":
    main()
