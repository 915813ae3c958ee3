"""Requests that mean nothing, over the whole table of addresses: every one is answered by a sentence, none by a bug."""

from __future__ import annotations

import json
import random
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field, fields
from types import UnionType
from typing import Literal, Union, get_args, get_origin, get_type_hints

from django.core.signals import request_finished
from django.db import close_old_connections
from django.test import Client
from django.urls import URLPattern, URLResolver, get_resolver

from core.document.commands import Command
from studio.library.models import Session

#: What an answer to nonsense may take: seconds, bytes.
SLOWEST, LARGEST = 1.0, 2**20
#: Values that a field may bring instead of what belongs there.
ODD = [
    None, True, "", "x", "０", "1e999", "NaN", "-1", "0", "99999999999999999999", "١", "\x00", "a" * 5000, "💥", 0,
    -1, 1, 2**31, 2**63, 2**100, 1e308, -1e308, 1e-308, 0.5, 1.5, 1e6, -1e6, [], {}, [[]], [0], [1e9, -1e9], {"a":
    []},
]  # fmt: skip
#: Bodies that are no object of JSON, or not finite.
BROKEN = [
    b"", b"{", b"[]", b"null", b"1", b'"x"', b"\xff\xfe\x00", b"{}", b'{"a":1}', b"[" * 5000, b'{"by":1e999}',
    b'{"by":NaN}', b'{"by":-Infinity}', b'{"step":99999999999999999999}', b'{"kind":[]}',
]  # fmt: skip
#: Names of fields that requests of the page have, with some of their right values, so that the odd ones get far.
FIELDS: dict[str, list[object]] = {
    "kind": ["move", "nudge", "tempo", "pin", "insert", "remove", "downbeat", "one", "number", "ratio",
        "meter", "section", "lock", "hold", "tempo", "map", "freedom", "average", "none", "steady", "start",
        "end", "to-attack", "unpin"],
    "do": ["tighten", "amount", "attack", "move", "hush", "place", "drop", "conform", "gap", "engine",
        "group", "add", "remove", "lengthen", "loudness", "repeat", "quantise", "fence", "fences"],
    "beat": [0, 5, 20], "to": [3.0, 10.0], "by": [0.02, 1, -1], "bpm": [100, 120], "stretch": [[2.0, 8.0]],
    "reach": ["beat", "bend", "onward", "whole", "pins", "stretch"], "step": [], "preview": [True, False],
    "had": [True], "bar": [1, 4], "of": [], "meter": ["3/4"], "name": ["A"], "remove": [1], "rename": [1],
    "recolour": [1], "colour": [1], "text": ["Am7", ""], "at": [4.0], "gain": [-3], "muted": [True],
    "solo": [False], "title": ["T"], "size": [100], "tracks": [[1]], "track": [1], "start": [2.0], "end": [8.0],
    "amount": [60], "key": [1], "leader": [1], "attack": [4.0], "notes": [[0]], "columns": [1], "semitones": [1],
    "velocity": [90], "times": [2], "offset": [0.5], "length": [1.0], "pitch": [60], "grid": [0.25], "swing": [50],
    "first": [1], "bars": [4], "from": [1], "messages": [[[1.0, 144, 60, 90]]], "sound": ["wood"],
    "figure": ["beats"], "drift": [20], "jitter": [20], "session": [1], "group": [[1]], "engine": ["cut"],
    "slowest": ["60"], "fastest": ["180"], "pace": ["100"], "move": ["1"], "hold": ["on"], "section": ["1"],
    "fill": ["4"], "clock": ["x"], "tile": ["0"], "grain": ["bar"], "ties": ["bars"], "pattern": ["Boardwalk"],
    "instrument": ["bass"],
}  # fmt: skip


@dataclass
class Found:
    """What went wrong in a round of requests."""

    asked: int = 0
    statuses: Counter[int] = field(default_factory=Counter)
    bugs: list[str] = field(default_factory=list)
    slow: list[str] = field(default_factory=list)
    large: list[str] = field(default_factory=list)

    @property
    def is_clean(self) -> bool:
        return not (self.bugs or self.slow or self.large)


def addresses(patterns: list[URLPattern | URLResolver] | None = None, before: str = "/") -> Iterator[str]:
    """Every address of the studio as its pattern."""
    for pattern in patterns if patterns is not None else get_resolver().url_patterns:
        text = before + str(pattern.pattern)
        if isinstance(pattern, URLResolver):
            yield from addresses(pattern.url_patterns, text)
        else:
            yield text


def filled(pattern: str, rng: random.Random, keys: list[int]) -> str:
    """An address with numbers and words in its places."""
    out = pattern
    while "<" in out:
        start, end = out.index("<"), out.index(">")
        kind = out[start + 1 : end].split(":")[0]
        odd = rng.random() < 0.25
        number = rng.choice([0, 2**31, 2**63, 10**30, 99]) if odd else rng.choice(keys)
        word = rng.choice(["check", "gather", "find", "reshape", "x", "%00", "deliver"])
        out = out[:start] + (str(number) if kind == "int" else word) + out[end + 1 :]
    return out


def odd_body(rng: random.Random) -> dict[str, object]:
    """Some fields, right or odd."""
    names = rng.sample(sorted(FIELDS), rng.randint(1, 7))
    if rng.random() < 0.7:
        names += [rng.choice(["kind", "do"])]
    return {n: rng.choice(ODD) if rng.random() < 0.5 or not FIELDS[n] else rng.choice(FIELDS[n]) for n in names}


#: Numbers that an edit may bring: right ones, and those that no musician means.
WHOLE = [0, 1, 2, 3, 4, 7, 20, -1, -3, 50, 1000, -1000, 10**6, -(10**6), 2**53]
REAL = [0.0, 0.01, -0.01, 0.5, 2.0, 5.0, 12.0, 1e-9, -1e-9, 100.0, 120.0, 1e4, -1e4, 1e9, -1e9, 1e15, 5e-324]


def odd_edit(rng: random.Random) -> dict[str, object]:
    """An edit of the map whose fields have the right types and any values."""
    command = rng.choice(get_args(Command))
    hints = get_type_hints(command)
    return {f.name: _value(hints[f.name], rng) for f in fields(command)}


def _value(kind: object, rng: random.Random) -> object:
    if get_origin(kind) is Literal:
        return rng.choice(get_args(kind))
    if get_origin(kind) is tuple:
        return sorted(rng.choice(REAL) if rng.random() < 0.3 else rng.uniform(0, 20) for _ in get_args(kind)[:2])
    if get_origin(kind) in (Union, UnionType):
        return _value(rng.choice(get_args(kind)), rng)
    if kind is int:
        return rng.choice(WHOLE)
    if kind is float:
        return rng.choice(REAL)
    if kind is bool:
        return rng.random() < 0.5
    return rng.choice(["", "4/4", "7/8", "3+2/8", "999/1", "x", "2:1", "1:3"]) if kind is str else None


def ask(count: int, seed: int, keys: list[int]) -> Found:
    """``count`` requests to addresses with these keys; the first is that of a session with a map."""
    rng, found = random.Random(seed), Found()
    table = sorted(addresses())
    client = Client(raise_request_exception=False)
    for number in range(count):
        path = filled(table[number % len(table)], rng, keys)
        body = odd_body(rng)
        step = Session.objects.values_list("step", flat=True).get(pk=keys[0])
        if rng.random() < 0.5:
            body["step"] = step
        begun = time.monotonic()
        way = rng.choice(["get", "json", "json", "form", "broken", "delete", "put", "edit", "edit", "edit", "edit"])
        if way == "get":
            answer = client.get(path, {k: str(v) for k, v in body.items()})
        elif way == "form":
            answer = client.post(path, {k: "" if v is None else str(v) for k, v in body.items()})
        elif way == "delete" and not path.rstrip("0123456789").endswith(("sessions/", "bin/")):  # the rest needs it
            answer = client.delete(path)
        elif way == "edit":
            body = {**odd_edit(rng), "step": step, "preview": rng.random() < 0.5}
            path = f"/sessions/{keys[0]}/edit"
            answer = client.post(path, json.dumps(body), content_type="application/json")
        elif way == "put":
            answer = client.put(f"{path}?offset={rng.choice(ODD)}", b"bytes", content_type="application/octet-stream")
        else:
            data = rng.choice(BROKEN) if way == "broken" else json.dumps(body).encode()
            answer = client.post(path, data, content_type="application/json")
        took = time.monotonic() - begun
        size = 0 if answer.streaming else len(answer.content)
        words = f"{way} {path} {str(body)[:300]}"
        found.asked += 1
        found.statuses[answer.status_code] += 1
        if answer.status_code >= 500 and answer.status_code != 507:
            found.bugs.append(words)
        if took > SLOWEST:
            found.slow.append(f"{took:.1f} s: {words}")
        if size > LARGEST and "wav" not in path:
            found.large.append(f"{size / 1e6:.1f} MB: {words}")
        _close(answer)
    return found


def _close(answer) -> None:
    """Let go of a response's files, and not of the test's connection to its database."""
    request_finished.disconnect(close_old_connections)
    try:
        answer.close()
    finally:
        request_finished.connect(close_old_connections)
