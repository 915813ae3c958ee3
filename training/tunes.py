"""Old tunes and chorales from the corpus that comes with music21 (music in the public domain)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import Any

import numpy as np

from training.score import Score, ScoreNote, ScoreTrack

#: Who plays what: General MIDI programs by the number of staves.
ALONE = (
    0,
    0,
    4,
    6,
    13,
    21,
    22,
    24,
    24,
    25,
    40,
    40,
    41,
    42,
    46,
    56,
    60,
    64,
    65,
    68,
    71,
    73,
    73,
    74,
    105,
    110,
    52,
    53,
    54,
)
CHOIRS = ((52, 52, 52, 52), (19, 19, 19, 19), (40, 40, 41, 42), (48, 48, 48, 48), (56, 56, 57, 58), (0, 0, 0, 0),
          (73, 68, 71, 70), (53, 53, 53, 53))  # fmt: skip
#: Collections of tunes, and how many of each are taken.
TUNES = {"oneills1850": 12, "ryansMammoth": 240, "airdsAirs": 4}
ENSEMBLES = {"bach": 180}


def paths(seed: int = 0) -> list[tuple[str, str]]:
    """(kind, path) of the files that are taken."""
    from music21 import corpus

    rng = np.random.default_rng(seed)
    core = sorted(str(p) for p in corpus.getCorePaths())
    out = []
    for kind, wanted in (("tune", TUNES), ("choir", ENSEMBLES)):
        for name, count in wanted.items():
            found = [p for p in core if f"/{name}/" in p and not p.endswith("rntxt")]
            out += [(kind, found[i]) for i in rng.permutation(len(found))[:count]]
    return out


def scores(kind: str, path: str, most: int = 40) -> Iterator[Score]:
    """What lies in one file, as scores whose instruments are chosen by their own name."""
    from music21 import converter, stream

    parsed = converter.parse(path)
    inside = list(parsed.scores) if isinstance(parsed, stream.Opus) else [parsed]
    name = "/".join(path.split("/")[-2:])
    for i, one in enumerate(inside[:most]):
        found = _score(f"{name}#{i}", kind, one)
        if found:
            yield found


def _score(source: str, kind: str, one: Any) -> Score | None:
    parts = list(one.parts) or [one]
    first = parts[0]
    signatures = list(first.recurse().getElementsByClass("TimeSignature"))
    if not signatures or len({s.ratioString for s in signatures}) > 1:
        return None
    over, under = signatures[0].numerator, signatures[0].denominator
    compound = under == 8 and over in (6, 9, 12)
    if under == 8 and not compound:
        return None
    unit = 1.5 if compound else 4 / under  # quarters a felt beat
    felt = over // 3 if compound else over
    if felt > 6:
        return None
    # bars as written; an incomplete first bar is a pickup
    measures = list(first.getElementsByClass("Measure"))
    if len(measures) < 8:
        return None
    lengths = [float(m.duration.quarterLength) for m in measures]
    pickup = lengths[0] if lengths[0] < felt * unit - 1e-3 else 0.0
    bars, inside = [], lengths[1:] if pickup else lengths
    at, bounds = 0.0, []
    for length in inside:
        bounds.append(at)
        at += length
    # halves of bars at repeats join the next one
    total, start = at, 0.0
    while start < total - 1e-3:
        bars.append(felt)
        start += felt * unit
    odd = sum(abs(b / (felt * unit) - round(b / (felt * unit))) > 1e-3 for b in bounds)
    rng = np.random.default_rng(np.frombuffer(source.encode(), dtype=np.uint8))
    tracks = []
    if kind == "choir":
        programs = CHOIRS[rng.integers(len(CHOIRS))]
    else:
        programs = (int(rng.choice(ALONE)),) * len(parts)
    for k, part in enumerate(parts[:6]):
        own = ScoreTrack(f"{k + 1}", programs[min(k, len(programs) - 1)])
        for n in part.flatten().stripTies().notes:
            if n.duration.isGrace or n.duration.quarterLength == 0:
                continue
            where = (float(n.offset) - pickup) / unit
            for pitch in n.pitches:
                own.notes.append(ScoreNote(where, float(n.duration.quarterLength) / unit, int(pitch.midi), 80))
        if len(own.notes) > 8:
            tracks.append(own)
    if not tracks or sum(len(t.notes) for t in tracks) < 24:
        return None
    if len({t.program for t in tracks}) == 1 and tracks[0].program in (0, 19):  # one player, two hands
        merged = ScoreTrack("1", tracks[0].program, sorted((n for t in tracks for n in t.notes), key=lambda n: n.at))
        tracks = [merged]
    short = Counter(round(n.length * 12) for t in tracks for n in t.notes).most_common(1)[0][0] / 12
    # jigs go at about 100 and more; a choir takes its time (common practice)
    middle = (100 if compound else 105) if kind == "tune" else (66 if compound else 88)
    if under == 2 or (kind == "tune" and felt == 2 and not compound):
        middle = 88
    bpm = float(np.clip(middle * np.exp(0.25 * rng.standard_normal()) * (1.15 if short >= 1 else 1.0), 40, 200))
    return Score(source, tracks, bars, bpm, odd == 0, 0.7 if len(tracks) == 1 else 0.5)
