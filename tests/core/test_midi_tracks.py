"""A MIDI performance as a track: notes as attacks, and the sound that it is given."""

import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile as sf

from core.analysis import Source, analyse, midi_tracks
from core.formats.smf import write_notes
from core.instruments.kit import PERCUSSION
from core.notes import Note

#: Keys of General MIDI's percussion map (RP-003).
BASS_DRUM, SNARE, CLOSED_HIHAT = 36, 38, 42


def drummed(beats):
    """A plain beat in four: bass drum on 1 and 3, snare on 2 and 4, hi-hat in eighths."""
    notes = []
    for k, (a, b) in enumerate(zip(beats, beats[1:], strict=False)):
        drum, velocity = (SNARE, 96) if k % 2 else (BASS_DRUM, 112 if k % 4 == 0 else 92)
        struck = [(a, drum, velocity), (a, CLOSED_HIHAT, 80), ((a + b) / 2, CLOSED_HIHAT, 60)]
        notes += [Note(t, t + 0.1, pitch, v, PERCUSSION) for t, pitch, v in struck]
    return sorted(notes, key=lambda n: (n.start, n.pitch))


class Attacks(TestCase):
    def test_notes_within_twelve_milliseconds_are_one_stroke(self):
        notes = [Note(t, t + 0.5, 60, 100) for t in (1.0, 1.004, 1.010, 2.0)]
        found = midi_tracks.note_attacks(notes)
        np.testing.assert_allclose(found.seconds, [1.00467, 2.0], atol=1e-4)
        self.assertGreater(found.strength[0], found.strength[1])

    def test_a_hihat_is_no_low_note_and_a_bass_drum_is(self):
        strengths = []
        for key in (CLOSED_HIHAT, BASS_DRUM):
            notes = [Note(1.0, 1.1, 72, 100), Note(2.0, 2.1, key, 100, PERCUSSION)]
            plain, drum = midi_tracks.note_attacks(notes).strength
            strengths.append(drum / plain)
        self.assertAlmostEqual(strengths[0], 1.0)
        self.assertGreater(strengths[1], 1.05)


class Sound(TestCase):
    def rendered(self, notes):
        with tempfile.TemporaryDirectory() as folder:
            midi_tracks.render(notes, Path(folder) / "x.flac")
            return sf.read(Path(folder) / "x.flac")

    def test_channel_ten_is_drums_and_all_else_is_pitched(self):
        """The same note is a hi-hat on channel 10 and F sharp 2 (92.5 Hz) elsewhere."""
        for channel, low, high in ((PERCUSSION, 5_000, 20_000), (0, 85, 1_000)):
            x, rate = self.rendered([Note(0.1, 0.6, CLOSED_HIHAT, 100, channel)])
            power = np.abs(np.fft.rfft(x)) ** 2
            hz = np.fft.rfftfreq(len(x), 1 / rate)
            self.assertGreater(power[(hz > low) & (hz < high)].sum() / power.sum(), 0.8)


class Drummer(TestCase):
    def test_beats_and_bar_lines_of_a_free_drummer(self):
        rng = np.random.default_rng(3)
        beats = 1.0 + np.concatenate([[0], np.cumsum(0.58 * np.exp(0.02 * np.sin(np.arange(96) / 9)))])
        beats = beats + rng.normal(0, 0.004, len(beats))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "kit.mid"
            write_notes(drummed(beats)).save(path)
            found = analyse([Source(path, path.name)]).result.map.beats()
        inside = (found.seconds > beats[0] - 0.07) & (found.seconds < beats[-2] + 0.07)
        np.testing.assert_allclose(found.seconds[inside], beats[:-1], atol=0.002)
        np.testing.assert_allclose(found.seconds[inside & (found.beat == 1)], beats[:-1:4], atol=0.002)
