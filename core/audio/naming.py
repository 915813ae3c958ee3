"""Names for a session and its tracks, from what files and folders are called."""

from __future__ import annotations

import re
from collections.abc import Sequence

#: What parts the words of a file's name; where nothing of that is in it, hyphens do.
_BETWEEN = re.compile(r"[\s_]+-[\s_]+|[\s_]+|(?<=[^\d\s])\.(?=\w)")
#: Words about the file, not about the music: bits and rates.
_TECHNICAL = re.compile(r"float|(16|24|32)(-?bits?|f)?|(44|44\.1|441|48|88|88\.2|96|192)k?(hz)?", re.IGNORECASE)
#: Letters that a name has at least.
_LETTERS = 3


def stem_of(name: str) -> str:
    """A file's name without its ending."""
    return re.sub(r"\.[A-Za-z0-9]{2,5}$", "", name) or name


def session_name(names: Sequence[str], folder: str = "") -> str:
    """What files that were dropped together are of: their folder's name, what all their names begin with, or the name
    of a single one; empty where they tell nothing."""
    if folder and (words := _plain(_words(folder))):
        return " ".join(words)
    if len(names) == 1:
        return " ".join(_plain(_words(stem_of(names[0])))) or stem_of(names[0])
    begin = _shared(names)
    own = [_words(stem_of(n))[len(begin) :] for n in names]
    # "Kick 1" and "Kick 2" begin alike, but that is no name of a session
    if any(not _has_letters(words) for words in own):
        return ""
    words = _plain(begin)
    return " ".join(words) if sum(c.isalpha() for c in "".join(words)) >= _LETTERS else ""


def track_name(name: str, among: Sequence[str] = ()) -> str:
    """A file's name as a track's: without what all files ``among`` which it came begin with, without a leading number,
    bits and rates; as it is where nothing would be left."""
    stem = stem_of(name)
    begin = _shared(among) if len(among) > 1 and name in among else []
    words = _plain(_words(stem)[len(begin) :])
    if not _has_letters(words):
        words = _plain(_words(stem))
    return " ".join(words) if _has_letters(words) else stem


def _words(text: str) -> list[str]:
    words = [w for w in _BETWEEN.split(text.strip()) if w]
    return text.split("-") if len(words) == 1 and all(text.split("-")) else words


def _plain(words: list[str]) -> list[str]:
    """Without leading numbers, and without what is about the file at the end."""
    while words and words[0].strip("().#").isdigit():
        words = words[1:]
    while words and _TECHNICAL.fullmatch(words[-1]) and not (words[-1].isdigit() and len(words) < 2):
        words = words[:-1]
    return words


def _has_letters(words: Sequence[str]) -> bool:
    return any(c.isalpha() for c in "".join(words))


def _shared(names: Sequence[str]) -> list[str]:
    """The words with which all names begin; at least one word of each stays its own."""
    rows = [_words(stem_of(n)) for n in names]
    if len(rows) < 2 or not all(rows):
        return []
    most = min(len(r) for r in rows) - 1
    count = 0
    while count < most and len({r[count].casefold() for r in rows}) == 1:
        count += 1
    return rows[0][:count]
