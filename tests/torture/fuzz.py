"""A coverage-guided fuzzer on each reader of ours: ``python -m tests.torture.fuzz KIND --minutes 60``.

Needs atheris (Apache 2.0), which is no part of the tests' lock: ``pip install atheris``. It begins with the sound files
of the other rounds; what reaches new code is kept in ``build/corpus/KIND``, and shrunk at the end of a run.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

import atheris
import numpy as np

with atheris.instrument_imports(
    include=["core.formats", "core.audio.chunks", "core.audio.splitting", "core.instruments.soundfont"]
):
    from core.audio.splitting import channel_names
    from core.formats.beat_tables import MapFileError
    from core.formats.carried import read_carried
    from core.formats.carried.content import CarryError
    from core.formats.map_files import read_with_sections
    from core.formats.smf import MidiError
    from core.formats.song import read_song
    from core.instruments.soundfont import SoundFont, SoundFontError

from core.instruments.sampler import play
from tests.core.sound_fonts import Tone, sound_font
from tests.torture.damaged_files import sound_files


def _plays(path: Path) -> None:
    """A sound set, and two notes of it."""
    font = SoundFont(path)
    for key in (60, 96):
        play(font, 0, 0, 8000, key, 100, 0.02)


#: What is read of each kind of file, and with which ending.
KINDS = {
    "midi": (".mid", (read_with_sections, read_song)),
    "tables": (".csv", (read_with_sections,)),
    "jams": (".jams", (read_with_sections,)),
    "score": (".musicxml", (read_with_sections,)),
    "wav": (".wav", (read_with_sections, read_carried, lambda path: channel_names(path, 8))),
    "flac": (".flac", (read_with_sections, read_carried)),
    "ogg": (".ogg", (read_with_sections, read_carried)),
    "mp3": (".mp3", (read_with_sections, read_carried)),
    "soundfont": (".sf2", (_plays,)),
}
#: Sound files that a kind begins with, by what their names end with.
SEEDS = {"tables": (".csv", ".txt", ".json"), "score": (".musicxml", ".mxl")}
LARGEST = 1 << 16


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    ask.add_argument("kind", choices=KINDS)
    ask.add_argument("--minutes", type=float, default=60)
    a = ask.parse_args()
    ending, readers = KINDS[a.kind]
    corpus = Path("build/corpus") / a.kind
    corpus.mkdir(parents=True, exist_ok=True)
    for name, data in sound_files().items():
        if name.endswith(SEEDS.get(a.kind, (ending,))) and len(data) <= LARGEST:
            (corpus / f"seed {name}").write_bytes(data)
    if a.kind == "soundfont":
        tone = Tone(np.sin(np.arange(400) / 3), loop=(10, 390), gens={54: 1, 34: -2400, 8: 9000, 11: 1200, 6: 50})
        (corpus / "seed tone").write_bytes(sound_font([tone]))
    path = Path(tempfile.mkdtemp(prefix="fuzz")) / f"file{ending}"

    def one(data: bytes) -> None:
        path.write_bytes(data)
        for read in readers:
            try:
                read(path)
            except (MapFileError, MidiError, CarryError, SoundFontError):
                continue

    options = [
        f"-max_total_time={round(60 * a.minutes)}",
        f"-max_len={LARGEST}",
        "-timeout=20",
        "-rss_limit_mb=3000",
        f"-artifact_prefix={corpus}/",
    ]
    atheris.Setup([sys.argv[0], *options, "-reduce_inputs=1", str(corpus)], one)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
