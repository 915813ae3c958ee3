"""What each address asks of whoever opens it. An address without a rule is open to nobody."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from studio.accounts.models import Level

#: What the key in an address is of.
Of = Literal["session", "binned", "track", "part", "upload", "job", "turn", "recording"]


@dataclass(frozen=True)
class Rule:
    """``of``: what the key in the address names; ``read``: the level for looking; ``write``: for all that changes."""

    of: Of
    read: Level = Level.LISTEN
    write: Level = Level.CORRECT


@dataclass(frozen=True)
class General:
    """An address of no session: for ``anybody``, for whoever has an account, or for an ``admin``. Sessions that it
    shows are those at which the person has ``level``."""

    who: Literal["anybody", "account", "admin"] = "account"
    level: Level = Level.LISTEN


_FILES = Rule("session", Level.DELIVER, Level.DELIVER)

RULES: dict[str, Rule | General] = {
    "health": General("anybody"),
    "login": General("anybody"),
    "logout": General("anybody"),
    "invited": General("anybody"),
    "by-link": General("anybody"),
    "new-password": General("anybody"),
    "password": General(),
    "people": General("admin"),
    "library": General(),
    "manual": General("anybody"),
    "manual-page": General("anybody"),
    "session-new": General(),
    "session-from-song": General(),
    "archives": General(level=Level.DELIVER),
    "archives-zip": General(level=Level.DELIVER),
    "queue": General(),
    "queue-steer": General("admin"),
    "share": Rule("session", Level.OWN, Level.OWN),
    "session": Rule("session", Level.OWN, Level.OWN),
    "binned": Rule("binned", Level.OWN, Level.OWN),
    **dict.fromkeys(
        ("deliver-files", "deliver-bundles", "deliver-make", "deliver-zip", "deliver-file", "deliver-part",
         "deliver-loop", "deliver-click", "archive", "archive-make", "archive-zip", "score-document", "chords-table",
         "lean-table", "reshape-write", "reshape-file", "reshape-download"),
        _FILES,
    ),
    **dict.fromkeys(
        ("desk", "tempo", "bars", "facts", "map", "edit", "undo-redo", "panel", "find", "options", "outside-map",
         "outside-map-take", "guides", "doubts", "marks", "mark", "version", "compare", "fold", "lean", "lay-out",
         "chords", "chords-find", "chords-edit", "chords-panel", "chords-grain", "chords-part", "jobs", "upload",
         "parts", "parts-panel", "parts-pattern", "parts-empty", "parts-bring", "parts-take-over", "parts-loop",
         "parts-record", "parts-simulated", "parts-sounds", "score", "block", "attack-starts", "click",
         "click-style", "count-in",
         "reshape", "reshape-map", "reshape-state", "reshape-link", "reshape-link-tracks", "reshape-bring",
         "order", "order-pane", "order-add", "record", "record-begin", "record-punch", "record-loopback",
         "record-tuner", "record-cut-off", "record-rate"),
        Rule("session"),
    ),
    **dict.fromkeys(("take-apart", "attacks", "peaks", "samples", "track"), Rule("track")),
    **dict.fromkeys(("part", "part-roll", "part-act", "part-from-chords"), Rule("part")),
    **dict.fromkeys(("upload-part", "upload-finish"), Rule("upload")),
    **dict.fromkeys(("job-cancel", "job-retry", "job-dismiss"), Rule("job")),
    "turn": Rule("turn"),
    **dict.fromkeys(("record-samples", "record-look", "record-end", "record-activate"), Rule("recording")),
    "record-simulated": General("account"),
}  # fmt: skip
