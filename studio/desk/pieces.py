"""What steps hold, stored by content: pieces that did not change are shared between steps.

A map is cut into chunks of some hundred points, so that an edit of a few beats stores some kilobytes.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Mapping
from typing import Any

import numpy as np
import orjson

from core.tempomap import TempoMap
from studio.desk.models import Piece
from studio.library.models import Session

#: Points a chunk.
CHUNK = 256


def _digest(data: bytes) -> str:
    return hashlib.blake2b(data, digest_size=16).hexdigest()


def cut_map(tempo_map: TempoMap) -> tuple[dict[str, Any], dict[str, bytes]]:
    """A map as JSON that names its chunks, and the chunks by digest."""
    chunks: dict[str, bytes] = {}

    def rows(values: Any) -> list[str]:
        names = []
        for start in range(0, len(values), CHUNK):
            data = np.ascontiguousarray(values[start : start + CHUNK], dtype="<f8").tobytes()
            names.append(_digest(data))
            chunks[names[-1]] = data
        return names

    facts = tempo_map.to_json(arrays=True)
    points = {"seconds": rows(tempo_map.seconds), "quarters": rows(tempo_map.quarters), "pins": rows(facts["pins"])}
    return {**facts, **points}, chunks


def chunks_of(cut: Mapping[str, Any]) -> list[str]:
    """The digests of all chunks of a map that was cut."""
    return [*cut["seconds"], *cut["quarters"], *cut["pins"]]


def joined_map(cut: Mapping[str, Any], chunks: Mapping[str, bytes]) -> TempoMap:
    """The map that was cut so, to the bit."""

    def row(names: list[str]) -> np.ndarray[Any, np.dtype[np.float64]]:
        return np.frombuffer(b"".join(chunks[name] for name in names), dtype="<f8").astype(np.float64)

    pins = row(cut["pins"]).astype(np.int64).tolist()
    return TempoMap.from_json({**cut, "seconds": row(cut["seconds"]), "quarters": row(cut["quarters"]), "pins": pins})


def json_bytes(data: Any) -> tuple[str, bytes]:
    """Plain data as bytes, and their digest."""
    text = orjson.dumps(data, option=orjson.OPT_SORT_KEYS | orjson.OPT_SERIALIZE_NUMPY)
    return _digest(text), text


def keep(session: Session, pieces: Mapping[str, bytes]) -> None:
    """Store the pieces that the session does not have yet; in one order, so that transactions never deadlock."""
    there = set(Piece.objects.filter(session=session, digest__in=pieces).values_list("digest", flat=True))
    new = [
        Piece(session=session, digest=digest, data=zlib.compress(piece, 1))
        for digest, piece in sorted(pieces.items())
        if digest not in there
    ]
    Piece.objects.bulk_create(new, ignore_conflicts=True)


def fetch(session_id: int, digests: list[str]) -> dict[str, bytes]:
    """Stored pieces by digest."""
    found = Piece.objects.filter(session_id=session_id, digest__in=digests).values_list("digest", "data")
    return {digest: zlib.decompress(data) for digest, data in found}
