"""What a track is: names as studios write them (common practice), borne out or not by sounds of known instruments."""

import tempfile
from dataclasses import astuple
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile as sf
from django.conf import settings

from core.instruments.stream import Player, render_block
from core.instruments.strokes import strokes_of
from core.listening.roles import ROLES, agrees, heard_role, named_role, role_of, sound_of
from core.listening.spectrum import evidence
from core.listening.track import AnalysedTrack, analyse_track
from core.notes import Note
from tests.shared import key_of, pickled_once

RATE = 44_100
SET = (settings.SOUND_SET, settings.SOUND_SET.stat().st_mtime_ns)


def recorded(name: str, instrument: str, program: int, pitches: list[int], length: float = 0.2) -> AnalysedTrack:
    """Twelve seconds of eighths at 120 a minute on some keys, by the sound set that ships."""
    notes = [Note(0.25 * k, 0.25 * k + length, pitches[k % len(pitches)], 70 + k % 30) for k in range(46)]
    x = render_block(strokes_of(notes, instrument), Player(instrument, program, SET), RATE, 0, 12 * RATE)
    with tempfile.NamedTemporaryFile(suffix=".wav") as file:
        sf.write(file.name, np.clip(x, -1, 1), RATE)
        return analyse_track(Path(file.name), name)


def band() -> dict[str, AnalysedTrack]:
    return {
        "kick": recorded("kick", "drums", 0, [36]),
        "snare": recorded("snare", "drums", 0, [38]),
        "hats": recorded("hats", "drums", 0, [42, 42, 46]),
        "bass": recorded("bass", "bass", 33, [33, 36, 40, 38]),
        "keys": recorded("keys", "keys", 0, [60, 64, 67, 72]),
        "wind": recorded("sax", "strings", 65, [60, 62, 67, 65], 0.25),
        "strings": recorded("strings", "strings", 48, [60, 64, 67, 72], 0.25),
    }


class Names(TestCase):
    def test_as_studios_write_them(self):
        for name, role in (
            ("Kick In", "kick"), ("BD", "kick"), ("bass drum", "kick"), ("Snare Top", "snare"), ("SN_bot", "snare"),
            ("HiHat", "hats"), ("hi-hats", "hats"), ("Floor Tom", "toms"), ("OH L", "drums"), ("Overheads", "drums"),
            ("Drum Room", "room"), ("Room pair", "room"), ("Bass DI", "bass"), ("e-bass", "bass"), ("Ac Gtr", "guitar"),
            ("Guitar 2", "guitar"), ("Piano left", "keys"), ("synth", "keys"), ("Vln 1", "strings"),
            ("violin2", "strings"), ("Horns", "wind"), ("Lead Vox", "voice"),
            ("BGV 3", "voice"), ("click", "click"), ("Rough Mix", "mix"),
            ("Hammered dulcimer", "keys"), ("Squeezebox", "keys"), ("Take 3", ""), ("Marooned", ""), ("Custom", ""),
        ):  # fmt: skip
            self.assertEqual(named_role(name), role, name)


class Sounds(TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.tracks = pickled_once(key_of(SET), band, "roles")

    def test_a_name_that_the_sound_bears_out(self):
        for role, track in self.tracks.items():
            self.assertEqual(role_of(track), role)

    def test_a_name_that_the_sound_belies_says_nothing(self):
        for role, track in (
            ("kick", "strings"),
            ("snare", "wind"),
            ("bass", "hats"),
            ("voice", "kick"),
            ("wind", "snare"),
        ):
            self.assertFalse(agrees(role, sound_of(self.tracks[track].evidence)), (role, track))

    def test_the_sound_alone_tells_kick_bass_and_hats(self):
        for role, track in self.tracks.items():
            wanted = role if role in ("kick", "bass", "hats") else ""
            self.assertEqual(heard_role(sound_of(track.evidence)), wanted, role)

    def test_the_sound_of_a_damaged_file_is_a_sound(self):
        for value in (0.0, 1e30, np.inf, np.nan):
            with np.errstate(all="ignore"):
                sound = sound_of(evidence([np.full(22_050, value, np.float32)]))
            self.assertTrue(np.isfinite(astuple(sound)).all(), value)

    def test_what_the_engineer_says_holds(self):
        kick = self.tracks["kick"]
        for said in ("voice", ""):
            self.assertEqual(role_of(AnalysedTrack("Kick", kick.evidence, kick.attacks, role=said)), said)

    def test_every_role_has_its_picture(self):
        pictures = Path("studio/desk/static/desk/roles.svg").read_text()
        for role in ROLES:
            self.assertIn(f'id="{role}"', pictures)
