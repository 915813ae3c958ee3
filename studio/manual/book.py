"""The manual: pages in Markdown beside this file, as HTML, with sections that can be searched."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from django.templatetags.static import static
from markdown_it import MarkdownIt

PAGES = Path(__file__).parent / "pages"
#: The order of the pages, in two groups.
STAGES = ("first-steps", "gather", "guide", "find", "check", "follow", "reshape", "deliver")
SITUATIONS = (
    "count-in", "pickup", "slow-down", "fill", "fermata", "odd-bar", "machine", "mix-only", "rubato-solo",
    "two-performances", "ending",
)  # fmt: skip

_HEADING = re.compile(r"^(#{1,2}) (.+?)(?: \{#([\w-]+)\})?$", re.M)
_PICTURE = re.compile(r"!\[([^\]]*)\]\(([\w-]+\.png)\)")


@dataclass(frozen=True)
class Section:
    """A page's opening, or what stands below one of its headings; ``words``: all of it, for searching."""

    page: str
    anchor: str
    title: str
    words: str


@dataclass(frozen=True)
class Page:
    slug: str
    title: str
    html: str
    sections: tuple[Section, ...]


@cache
def page(slug: str) -> Page:
    """Raises ``KeyError`` where there is no such page."""
    if slug not in (*STAGES, *SITUATIONS):
        raise KeyError(slug)
    source = (PAGES / f"{slug}.md").read_text(encoding="utf-8")
    found = list(_HEADING.finditer(source))
    sections = []
    for heading, after in zip(found, [*found[1:], None], strict=True):
        text = source[heading.end() : after.start() if after else None]
        plain = " ".join(re.sub(r"[*`#\[\]]|\{#[\w-]+\}", "", _PICTURE.sub("", text)).split())
        sections.append(Section(slug, heading[3] or "", heading[2], plain))
    return Page(slug, found[0][2], _html(source), tuple(sections))


def _html(source: str) -> str:
    """Headings get their anchors, pictures their addresses."""
    pictures = _PICTURE.sub(lambda m: f"![{m[1]}]({static(f'pictures/{m[2]}')})", source)
    anchors = [m[3] for m in _HEADING.finditer(source)]
    html = str(MarkdownIt("commonmark").render(_HEADING.sub(lambda m: f"{m[1]} {m[2]}", pictures)))
    opening = iter(anchors)

    def anchored(match: re.Match[str]) -> str:
        anchor = next(opening)
        return f'<h{match[1]} id="{anchor}">' if anchor else match[0]

    return re.sub(r"<h([12])>", anchored, html)


def search(text: str) -> list[Section]:
    """Sections that have all the words, those first that have them in their titles."""
    words = text.lower().split()
    if not words:
        return []
    every = [s for slug in (*STAGES, *SITUATIONS) for s in page(slug).sections]
    found = [s for s in every if all(w in f"{s.title} {s.words}".lower() for w in words)]
    return sorted(found, key=lambda s: -sum(w in s.title.lower() for w in words))
