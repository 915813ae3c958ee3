"""Names of sessions and tracks, from what engineers call files (common practice)."""

from unittest import TestCase

from core.audio.naming import session_name, track_name


class Names(TestCase):
    SESSION = ("Slipway_T02_01_Kick In.wav", "Slipway_T02_02_Snare.wav", "Slipway_T02_03_Tom 1_24bit.wav")

    def test_a_session_is_called_by_what_its_files_begin_with(self):
        self.assertEqual(session_name(self.SESSION), "Slipway T02")

    def test_or_by_its_folder_or_by_its_single_file(self):
        self.assertEqual(session_name(self.SESSION, "2026_Lantern-live"), "Lantern-live")
        self.assertEqual(session_name(["01 Evening take_48k.wav"]), "Evening take")
        self.assertEqual(session_name(["0123.wav"]), "0123")

    def test_files_that_tell_nothing_name_nothing(self):
        for names in (
            ("kick.wav", "snare.wav"),
            ("01.wav", "02.wav"),
            ("Kick 1.wav", "Kick 2.wav"),
            ("a_b.wav", "a_c.wav"),
        ):
            self.assertEqual(session_name(names), "", names)

    def test_tracks_lose_numbers_endings_and_what_all_share(self):
        self.assertEqual([track_name(n, self.SESSION) for n in self.SESSION], ["Kick In", "Snare", "Tom 1"])

    def test_alone_a_track_keeps_its_words(self):
        for name, wanted in {
            "03_Kick-In.wav": "Kick-In",
            "03-Kick-In.wav": "Kick In",
            "Room L.flac": "Room L",
            "Tom 2.aiff": "Tom 2",
            "07 Bass DI_24bit_48kHz.wav": "Bass DI",
            "808.wav": "808",
            "he said “go”.wav": "he said “go”",
            "Drum and boots.wav": "Drum and boots",
            "take.float.wav": "take",
            "12-string guitar.wav": "12-string guitar",
        }.items():
            with self.subTest(name):
                self.assertEqual(track_name(name), wanted)
