"""Files that can be fetched in parts, so that a broken download goes on where it stopped (RFC 9110, section 14)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import quote

from django.http import FileResponse, HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase

_PIECE = 1 << 18


def file_in_ranges(request: HttpRequest, path: Path, name: str, kind: str) -> HttpResponseBase:
    """The whole file, or the part that the request asks for; a part of an older file is answered with the whole."""
    facts = path.stat()
    etag = f'"{facts.st_size:x}-{facts.st_mtime_ns:x}"'
    headers = {"Accept-Ranges": "bytes", "ETag": etag}
    wanted = re.fullmatch(r"bytes=(\d*)-(\d*)", request.headers.get("Range", "").strip())
    same = request.headers.get("If-Range", etag) == etag
    if not wanted or not any(wanted.groups()) or not same:
        return FileResponse(path.open("rb"), as_attachment=True, filename=name, content_type=kind, headers=headers)
    first, last = _bounds(wanted[1], wanted[2], facts.st_size)
    if first > last:
        return HttpResponse(status=416, headers=headers | {"Content-Range": f"bytes */{facts.st_size}"})
    return StreamingHttpResponse(
        _pieces(path, first, last - first + 1),
        status=206,
        content_type=kind,
        headers=headers
        | {
            "Content-Range": f"bytes {first}-{last}/{facts.st_size}",
            "Content-Length": str(last - first + 1),
            "Content-Disposition": f"attachment; filename*=utf-8''{quote(name)}",
        },
    )


def _bounds(first: str, last: str, size: int) -> tuple[int, int]:
    """First and last byte; without a first one, so many bytes from the end."""
    if not first:
        return max(0, size - int(last)), size - 1 if int(last) else -1
    return int(first), min(size - 1, int(last)) if last else size - 1


def _pieces(path: Path, start: int, count: int) -> Iterator[bytes]:
    with path.open("rb") as file:
        file.seek(start)
        while count and (piece := file.read(min(_PIECE, count))):
            count -= len(piece)
            yield piece
