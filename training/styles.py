"""The usual tempo of each style of the accompaniment generator, and how many beats people count in its bars.

Each style is played at its usual tempo, so that the networks learn the beat that people count. Some files write a bar
of two beats as four and note it in a comment ("double the tempo"). A tempo that a file gives is used. All other tempos
are common practice, from memory. Styles that people count in two different ways are left out.
"""

from __future__ import annotations

import re

#: Written in four, felt in two, by the words of the files themselves; polkas and sambas of other collections alike.
IN_TWO = frozenset(
    ("stdlib/broadway", "stdlib/bwmarch", "stdlib/march", "stdlib/polka", "stdlib/ragtime", "stdlib/samba",
     "stdlib/ska", "stdlib/merengue", "stdlib/ballad68", "casio/polka", "casio/poppolka", "zoom/samba")
)  # fmt: skip
#: Written in six for two dotted beats ("this is in 6", patterns in threes).
SIX_IN_TWO = frozenset(("casio/68ballad", "zoom/blues68"))
#: Counted in either of two ways, not music alone (count-ins), or with a meter that the file contradicts.
LEFT_OUT = re.compile(
    r"quickstep|charleston|dixie|fastswing|fastbigband|zydeco|mambo|salsa|/son$|slowbroadway|polkafox|germanmarch"
    r"|march1|dnb|zoom/(count|intro|ending)$|quando|vienesewaltz|blues34|metronome"
)
#: Felt beats a minute that are usual, the more exact names first. Where the file names a tempo it is that one.
USUAL: list[tuple[str, float]] = [
    (r"mellowjazz", 62), (r"middlebigband", 80), (r"bebop", 135), (r"kwestballad", 82), (r"2beatp", 120),
    (r"fasttwist", 140), (r"kbossa", 122), (r"kfunk", 112), (r"teamtechno", 97), (r"alexis/hiphop", 90),
    (r"ballad68|68ballad", 64), (r"blues68", 58), (r"68march|68swing", 112), (r"afro-cuban", 110),
    (r"128", 74), (r"slow16|slowrock|slowjazz|slowcountry", 76), (r"slowblues|slowbolero", 68),
    (r"spiritual", 74), (r"slow", 92),
    (r"ballad|hymn|lullab|serenade|arpeggio44|desert", 74), (r"arpeggio68", 62),
    (r"hip-?hop", 90), (r"trip", 84), (r"techno|rave", 134), (r"trance", 138), (r"house", 124),
    (r"dance|electric|disco|boneym", 120), (r"16beat|beat16|16shuffle", 92), (r"motown", 118),
    (r"soul", 98), (r"/rb|r\+b|rnb|modernrb|mellowrb", 90), (r"funk", 103), (r"fus", 108), (r"reggae", 76),
    (r"ska", 116), (r"punk", 172), (r"metal|mtl|hrk|thr$", 144), (r"softrock", 96), (r"50s", 140), (r"rockwaltz", 112),
    (r"jive", 168), (r"twi", 154), (r"boogie|boggie|fastblues", 150), (r"shuffle", 122), (r"fastjazzwaltz", 178),
    (r"fastwaltz", 168), (r"frenchwaltz", 150), (r"jazzwaltz", 142), (r"bald34", 90), (r"waltz", 116),
    (r"rock", 122), (r"blues", 98), (r"westernswing", 150), (r"bluegrass", 122), (r"country|cntry|western|hill", 110),
    (r"gypsy", 170), (r"easyswing", 120), (r"swing", 140), (r"bigband", 140), (r"nitejazz", 92), (r"bossa", 128),
    (r"jazz", 132), (r"samba", 100), (r"merengue|polka", 116), (r"march|broadway", 114), (r"ragtime", 96),
    (r"bolero", 84), (r"tango", 122), (r"rhumba|cubanguitar|beguine", 106), (r"chacha", 120), (r"pop", 112),
    (r"ambient", 90),
]  # fmt: skip
#: Of all other styles; and the spread of the tempos of one style (natural logarithm).
OTHERWISE, SPREAD = 112.0, 0.16


def usual_tempo(family: str) -> float | None:
    """Felt beats a minute at which a library file ("stdlib/tango") is usually played; None where it is left out."""
    name = family.lower()
    if LEFT_OUT.search(name):
        return None
    return next((bpm for words, bpm in USUAL if re.search(words, name)), OTHERWISE)


def felt(family: str, counted: int, felt_beats: int) -> int:
    """Felt beats of a bar that has ``counted`` written ones and ``felt_beats`` by its signature."""
    return 2 if (family in IN_TWO and counted == 4) or (family in SIX_IN_TWO and counted == 6) else felt_beats
