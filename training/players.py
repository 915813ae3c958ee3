"""Players who make up their parts: drums, basses, chords and melodies for a plan."""

from __future__ import annotations

import numpy as np

from training.piece import Part, Plan, Rng

KICK, SNARE, RIM, HAT, OPEN, RIDE, CRASH, SHAKER, CLAP = 36, 38, 37, 42, 46, 51, 49, 70, 39
TOMS = (48, 45, 43, 41)


def near(classes: tuple[int, ...], pitch: float) -> int:
    """The pitch of one of ``classes`` that lies nearest to ``pitch``."""
    options = [c + 12 * o for o in range(10) for c in classes]
    return min(options, key=lambda x: abs(x - pitch))


def accent(at: float, beats: int, depth: float) -> float:
    """How much louder a place in the bar is played."""
    if abs(at - round(at)) > 1e-6:
        return -0.5 * depth
    return depth if round(at) % beats == 0 else 0.3 * depth if (round(at) % beats) == beats // 2 else 0.0


def drums(rng: Rng, p: Plan) -> list[Part]:
    """Kick, snare and hats after one pattern a section, with fills, ghosts and silent bars."""
    jitter, lean = rng.uniform(0.002, 0.010), 0.0
    kick, snare = (
        Part("kick", -1, jitter=jitter, lean=lean),
        Part("snare", -1, jitter=jitter, lean=rng.normal(0, 0.004)),
    )
    hats, toms = Part("hats", -1, jitter=jitter), Part("toms", -1, jitter=jitter)
    fine = p.parts_of_beat * 2
    patterns = [_pattern(rng, p, fine) for _ in range(2)]
    fill_every = int(rng.choice([4, 8, 8, 100]))
    silent = set()
    if rng.random() < 0.25:
        start = int(rng.integers(2, max(3, p.bars - 3)))
        silent = set(range(start, start + int(rng.integers(1, 5))))
    ghost, cymbal = rng.choice([0.0, 0.0, 0.08, 0.2]), int(rng.choice([HAT, HAT, RIDE, SHAKER]))
    for bar in range(p.bars):
        if bar in silent:
            continue
        k, s, h = patterns[(bar // 8) % 2]
        fill = (bar + 1) % fill_every == 0
        fill_from = p.beats - rng.choice([1, 1, 2]) if fill else p.beats
        if bar and bar % fill_every == 0 and rng.random() < 0.7:
            hats.add(bar * p.beats, 1, CRASH, 0.85)
        for i in range(p.beats * fine):
            at = i / fine
            if at >= fill_from:
                if rng.random() < 0.75:
                    to = snare if rng.random() < 0.4 else toms
                    pitch = SNARE if to is snare else int(rng.choice(TOMS))
                    to.add(p.place(bar * p.beats + at), 0.2, pitch, rng.uniform(0.5, 0.9))
                continue
            here = p.place(bar * p.beats + at if i else p.opening(bar))
            if k[i] and rng.random() < 0.96:
                kick.add(here, 0.3, KICK, rng.uniform(0.75, 0.95) * (1 if at == int(at) else 0.85))
            elif not k[i] and at * 2 == int(at * 2) and rng.random() < 0.02:
                kick.add(here, 0.3, KICK, 0.6)
            if s[i]:
                snare.add(here, 0.3, SNARE, rng.uniform(0.75, 0.95))
            elif rng.random() < ghost:
                snare.add(here, 0.2, SNARE, rng.uniform(0.1, 0.3))
            if h[i]:
                hats.add(here, 0.2, cymbal, h[i] * rng.uniform(0.85, 1.1))
    return [x for x in (kick, snare, hats, toms) if x.strokes]


def _pattern(rng: Rng, p: Plan, fine: int) -> tuple[list[float], list[float], list[float]]:
    n = p.beats * fine
    k, s, h = [0.0] * n, [0.0] * n, [0.0] * n
    style = rng.choice(["back", "half", "four", "waltz", "march", "loose"], p=[0.45, 0.1, 0.15, 0.1, 0.1, 0.1])
    if style == "four":
        k[::fine] = [1.0] * p.beats
    else:
        k[0] = 1.0
        if p.beats > 3 and rng.random() < 0.7:
            k[(p.beats // 2) * fine] = 1.0
    step = fine // 2 if not p.three else fine // 3
    for i in range(0, n, step):  # syncopations, the same in every bar
        if i % fine and rng.random() < (0.25 if style == "loose" else 0.13):
            k[i] = 1.0
    if style == "half" and p.beats >= 4:
        s[(p.beats // 2) * fine] = 1.0
    elif p.beats == 3 and rng.random() < 0.7:
        s[fine] = s[2 * fine] = 1.0 if rng.random() < 0.6 else 0.0
        s[2 * fine] = max(s[2 * fine], float(rng.random() < 0.6))
    else:
        for b in range(1, p.beats, 2):
            s[b * fine] = 1.0
    if style == "loose" and rng.random() < 0.5:
        i = int(rng.integers(n // step)) * step
        s[i] = 1.0
    every = rng.choice(["eighths", "beats", "off", "fine", "none"], p=[0.5, 0.17, 0.08, 0.17, 0.08])
    small = fine // p.parts_of_beat
    for i in range(n):
        on = i % fine == 0
        if every == "eighths" and i % small == 0:
            h[i] = 0.7 if on else 0.5
        elif (every == "beats" and on) or (every == "off" and not p.three and i % fine == fine // 2):
            h[i] = 0.65
        elif every == "fine":
            h[i] = 0.65 if on else 0.35 if i % small else 0.5
    return k, s, h


BASSES = (32, 33, 33, 33, 34, 35, 36, 38, 39, 43, 58)


def bass(rng: Rng, p: Plan) -> Part:
    """Roots on beats, running eighths, long notes, walking, or a figure that repeats."""
    out = Part("bass", int(rng.choice(BASSES)), jitter=rng.uniform(0.003, 0.012), lean=rng.normal(0.004, 0.008))
    style = rng.choice(["figure", "beats", "eighths", "long", "walk", "fifths"], p=[0.35, 0.12, 0.15, 0.18, 0.1, 0.1])
    step = 1 / p.parts_of_beat
    figure = [0.0] + [
        i * step
        for i in range(1, p.beats * p.parts_of_beat)
        if rng.random() < (0.4 if i % p.parts_of_beat == 0 else 0.2)
    ]
    early = rng.random() < 0.12  # some basses come an eighth ahead of the bar
    pitch = 38.0
    for bar in range(p.bars):
        places = {
            "figure": figure,
            "beats": [float(b) for b in range(p.beats)],
            "eighths": [i * step for i in range(p.beats * p.parts_of_beat)],
            "walk": [float(b) for b in range(p.beats)],
            "fifths": [0.0, float(p.beats // 2)] if p.beats > 3 else [0.0],
            "long": [c[0] for c in p.chords[bar]],
        }[style]
        ends = [*places[1:], float(p.beats)]
        for at, end in zip(places, ends, strict=True):
            classes, root = p.chord_at(bar * p.beats + at)
            if at == 0 or style in ("beats", "eighths", "long") or rng.random() < 0.5:
                pitch = near((root,), 38)
            elif style == "fifths":
                pitch = near(((root + 7) % 12,), 36)
            else:
                pitch = near(classes if rng.random() < 0.7 else p.scale, pitch + rng.normal(0, 4))
            where = bar * p.beats + at if at else p.opening(bar)
            if at == 0 and early and bar and bar not in p.pushed:
                where -= step
            out.add(
                p.place(where),
                (end - at) * rng.uniform(0.7, 0.98),
                pitch,
                0.7 + accent(at, p.beats, 0.1) + 0.06 * rng.standard_normal(),
            )
    return out


STRUMMED, STRUCK, PADS = (
    (24, 25, 25, 27, 28, 29, 15),
    (0, 0, 0, 1, 4, 5, 6, 11, 12, 16, 21),
    (48, 49, 50, 51, 52, 88, 89, 91, 92, 94, 95, 19, 20),
)


def chords(rng: Rng, p: Plan, style: str | None = None) -> Part:
    """Chords as blocks, strums, off-beats, broken chords, low note and answer, or pads."""
    styles = ["block", "beats", "off", "strum", "broken", "answer", "pad", "figure"]
    style = style or str(rng.choice(styles, p=[0.12, 0.1, 0.08, 0.2, 0.18, 0.1, 0.1, 0.12]))
    program = int(
        rng.choice(
            STRUMMED
            if style in ("strum",)
            else PADS
            if style == "pad"
            else STRUCK + STRUMMED
            if style == "broken"
            else STRUCK
        )
    )
    soft = style == "pad"
    out = Part(
        f"chords {style}", program, jitter=rng.uniform(0.004, 0.03 if soft else 0.014), lean=rng.normal(0, 0.008)
    )
    step = 1 / p.parts_of_beat
    if style == "strum" and not p.three and rng.random() < 0.4:
        step = 0.25
    cells = p.beats * round(1 / step)
    pattern = [i == 0 or rng.random() < (0.85 if i % round(1 / step) == 0 else 0.55) for i in range(cells)]
    figure = [i == 0 or rng.random() < 0.4 for i in range(cells)]
    order = rng.choice(["up", "updown", "alberti"])
    fine = step / 2 if style == "broken" and rng.random() < 0.3 and not p.three else step
    spread = rng.uniform(0.004, 0.02) if style == "strum" else rng.choice([0.0, 0.0, 0.008])
    depth, centre = rng.uniform(0, 0.22), rng.uniform(52, 64)
    push = rng.random() < 0.12

    def hit(at: float, length: float, loud: float, down: bool = True, low: bool = False) -> None:
        classes, root = p.chord_at(at)
        notes = sorted(
            {near((c,), centre + 3 * i) for i, c in enumerate(classes)}
            | ({near((root,), centre - 14)} if low else set())
        )
        for i, pitch in enumerate(notes if down else notes[::-1]):
            late = spread * (i - 0.5 * (len(notes) - 1))
            out.add(p.place(at), length, pitch, loud + 0.05 * rng.standard_normal(), late)

    for bar in range(p.bars):
        start = bar * p.beats
        if style in ("pad", "block"):
            marks = [c[0] for c in p.chords[bar]]
            for at, end in zip(marks, [*marks[1:], p.beats], strict=True):
                where = start + at if at else p.opening(bar) - (step if push and bar and bar not in p.pushed else 0)
                hit(where, (end - at) * 0.97, 0.65 + accent(at, p.beats, depth), low=style == "block")
        elif style == "beats":
            for b in range(p.beats):
                hit(start + b, rng.uniform(0.4, 0.9), 0.6 + accent(b, p.beats, depth))
        elif style == "off":
            for b in range(p.beats):
                hit(start + b + (2 / 3 if p.three else 0.5), 0.3, 0.7)
        elif style in ("strum", "figure"):
            for i, on in enumerate(pattern if style == "strum" else figure):
                at = i * step
                if on and rng.random() < 0.94:
                    down = i % 2 == 0
                    hit(
                        start + at if i else p.opening(bar),
                        step * rng.uniform(0.6, 1.5),
                        0.62 + accent(at, p.beats, depth) - (0 if down else 0.12),
                        down,
                        low=at == 0,
                    )
        elif style == "answer":
            classes, root = p.chord_at(start)
            out.add(p.place(start), 0.9, near((root,), centre - 16), 0.75)
            if p.beats > 3:
                out.add(
                    p.place(start + p.beats // 2),
                    0.9,
                    near((p.chord_at(start + p.beats // 2)[0][-1],), centre - 16),
                    0.65,
                )
            for b in range(p.beats):
                if p.three:
                    hit(start + b + 1 / 3, 0.3, 0.5)
                    hit(start + b + 2 / 3, 0.3, 0.5)
                elif b and (p.beats == 3 or b % 2 or p.beats % 2):
                    hit(start + b, 0.5, 0.55)
        else:  # broken
            count = round(p.beats / fine)
            for i in range(count):
                at = i * fine
                classes, root = p.chord_at(start + at)
                tones = [near((c,), centre + 4 * j) for j, c in enumerate(classes[:3])] + [near((root,), centre + 14)]
                turn = {"up": i % 4, "updown": (0, 1, 2, 3, 2, 1)[i % 6], "alberti": (0, 2, 1, 2)[i % 4]}[str(order)]
                if at == 0:
                    out.add(p.place(start), p.beats * 0.9, near((root,), centre - 14), 0.68 + accent(0, p.beats, depth))
                out.add(
                    p.place(start + at),
                    fine * rng.uniform(1, 3),
                    tones[turn],
                    0.55 + accent(at, p.beats, depth) + 0.05 * rng.standard_normal(),
                )
    return out


BOWED, BLOWN, SUNG, PLUCKED = (
    (40, 40, 40, 41, 42, 110),
    (56, 60, 64, 65, 66, 68, 71, 73, 73, 75, 79, 21, 22),
    (52, 53, 53, 54, 85),
    (0, 4, 11, 12, 13, 24, 25, 26, 27, 46, 105, 107, 15),
)


def melody(rng: Rng, p: Plan, programs: tuple[int, ...] | None = None) -> Part:
    """Phrases with rhythms that come again, or running notes; chord tones and long notes rather on strong beats."""
    programs = programs or (BOWED, BLOWN, SUNG, PLUCKED)[rng.choice(4, p=[0.3, 0.3, 0.15, 0.25])]
    soft = programs in (BOWED, BLOWN, SUNG)
    out = Part(
        "melody",
        int(rng.choice(programs)),
        jitter=rng.uniform(0.005, 0.022 if soft else 0.014),
        lean=rng.normal(0, 0.012),
    )
    running = rng.random() < 0.3
    step = (
        (1 / 3 if p.three else (0.25 if p.bpm < 125 and rng.random() < 0.6 else 0.5))
        if running
        else 1 / p.parts_of_beat
    )
    density, syncopation = rng.uniform(0.25, 0.75), rng.choice([0.0, 0.1, 0.3])
    depth, centre = rng.uniform(0.02, 0.25), rng.uniform(62, 80)
    motifs = [_rhythm(rng, p, step, running, density, syncopation) for _ in range(3)]
    phrase = int(rng.choice([2, 4, 4, 8]))
    legato = rng.uniform(0.55, 1.05)
    pitch = centre
    for bar in range(p.bars):
        starts = (
            motifs[int(rng.choice(3, p=[0.55, 0.3, 0.15]))]
            if rng.random() < 0.75
            else _rhythm(rng, p, step, running, density, syncopation)
        )
        if (bar + 1) % phrase == 0 and not running:
            starts = [s for s in starts if s <= p.beats / 2] or [0.0]
        ends = [*starts[1:], float(p.beats) + (starts[0] if rng.random() < 0.3 else 0)]
        for at, end in zip(starts, ends, strict=True):
            where = bar * p.beats + at
            classes, _ = p.chord_at(where)
            strong = abs(at - round(at)) < 1e-6
            goal = pitch + rng.normal(0, 2.2) + 0.15 * (centre - pitch)
            tone = near(classes if rng.random() < (0.75 if strong else 0.35) else p.scale, goal)
            if tone == round(pitch) and rng.random() < 0.6:
                tone = near(p.scale, pitch + rng.choice([-2, 2]))
            pitch = tone
            out.add(
                p.place(where),
                (end - at) * legato,
                tone,
                0.65 + accent(at, p.beats, depth) + 0.06 * rng.standard_normal(),
            )
    return out


def _rhythm(rng: Rng, p: Plan, step: float, running: bool, density: float, syncopation: float) -> list[float]:
    out = []
    for i in range(round(p.beats / step)):
        at = i * step
        share = at - np.floor(at + 1e-9)
        if running:
            odds = 0.95
        elif share < 1e-6:
            odds = 0.92 - syncopation if i else 0.95 - syncopation / 2
        else:
            odds = density * (0.8 if p.three else 1.0) + syncopation / 2
        if rng.random() < odds:
            out.append(at)
    return out or [0.0]


def voices(rng: Rng, p: Plan) -> list[Part]:
    """Three or four lines of one family: strings, brass or a choir, mostly moving together."""
    family = [
        (40, 40, 41, 42),
        (48, 48, 48, 48),
        (56, 60, 57, 58),
        (52, 52, 52, 53),
        (73, 68, 71, 70),
        (19, 19, 19, 19),
    ][rng.choice(6, p=[0.42, 0.12, 0.12, 0.14, 0.1, 0.1])]
    together = rng.random() < 0.5
    step, jitter = 1 / p.parts_of_beat, rng.uniform(0.006, 0.02)
    parts = []
    for v, (program, centre) in enumerate(zip(family, (74, 67, 60, 50), strict=True)):
        part = Part(f"voice {v + 1}", program, jitter=jitter, lean=rng.normal(0, 0.008))
        low = v == 3
        density = 0.05 if together else (rng.uniform(0.1, 0.6) if not low else 0.08)
        motif = [_rhythm(rng, p, step, False, density, 0.05) for _ in range(2)]
        depth, pitch = rng.uniform(0.05, 0.2), float(centre)
        for bar in range(p.bars):
            marks = motif[int(rng.random() < 0.25)]
            if low and rng.random() < 0.3:
                marks = [c[0] for c in p.chords[bar]]
            for at, end in zip(marks, [*marks[1:], float(p.beats)], strict=True):
                classes, root = p.chord_at(bar * p.beats + at)
                pitch = near(
                    (root,) if low and rng.random() < 0.6 else classes,
                    centre + 0.5 * (pitch - centre) + rng.normal(0, 3),
                )
                part.add(
                    p.place(bar * p.beats + at),
                    (end - at) * rng.uniform(0.8, 1.0),
                    pitch,
                    0.6 + accent(at, p.beats, depth) + 0.05 * rng.standard_normal(),
                )
        parts.append(part)
    return parts[: int(rng.integers(3, 5))] if rng.random() < 0.8 else parts[::3]
