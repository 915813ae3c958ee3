"""Chords, key and tuning, on sounds synthesised from equal temperament (ISO 16: A4 = 440 Hz)."""

from unittest import TestCase

import numpy as np

from core.harmony.chord_line import TimedChord, chords_by_beat, pad_notes, snapped_chords, with_chord
from core.harmony.chord_search import find_chords
from core.harmony.chords import MAJOR, QUALITIES, Chord, find_key, voiced
from core.listening.tonal import RATE, chroma, joined, tones, tuning
from core.notes import to_seconds
from core.tempomap import Meters, TempoMap


def hertz(pitch, cents=0.0):
    """Equal temperament: twelve equal steps to the octave, A4 (69) at 440 Hz (ISO 16)."""
    return 440 * 2 ** ((pitch - 69 + cents / 100) / 12)


def chord_sound(pitches, seconds, cents=0.0, seed=0):
    """Held notes with eight falling overtones each, and a little noise."""
    t = np.arange(round(seconds * RATE)) / RATE
    x = sum(np.sin(2 * np.pi * k * hertz(p, cents) * t) / k**1.5 for p in pitches for k in range(1, 9))
    noise = np.random.default_rng(seed).standard_normal(len(t))
    return (0.1 * x * np.minimum(1, t / 0.02) + 0.002 * noise).astype(np.float32)


def played(symbols, beats_each=4, bpm=100, cents=0.0):
    """Chords one after the other, bass below, and the map under them."""
    beat = 60 / bpm
    parts = []
    for i, s in enumerate(symbols):
        c = Chord.parse(s)
        pitches = [36 + (c.classes[0] - 36) % 12] + [60 + (x - 60) % 12 for x in c.classes]
        parts.append(chord_sound(pitches, beats_each * beat, cents, i))
    m = TempoMap.steady(bpm, Meters(), 0.0, len(symbols) * beats_each // 4)
    return np.concatenate(parts), TempoMap.from_beats(m.beats().seconds, 0)


class Symbols(TestCase):
    def test_usual_symbols_are_read_and_written(self):
        for text, classes in {
            "C": {0, 4, 7}, "F#m7": {6, 9, 1, 4}, "Bbmaj7": {10, 2, 5, 9}, "Dm7/A": {2, 5, 9, 0}, "Gsus4": {7, 0, 2},
            "Edim": {4, 7, 10}, "A7": {9, 1, 4, 7}, "Ebm": {3, 6, 10}, "Caug": {0, 4, 8},
        }.items():  # fmt: skip
            self.assertEqual(set(Chord.parse(text).classes), classes, text)
            self.assertEqual(str(Chord.parse(text)), text)
        for same in ("Cmaj", "CM", " C "):
            self.assertEqual(str(Chord.parse(same)), "C")
        self.assertEqual(str(Chord.parse("B♭min7")), "Bbm7")
        self.assertEqual(str(Chord.parse("nc")), "N.C.")

    def test_what_is_no_symbol(self):
        for text in ("H", "Cx", "", "C/", "dear engineer"):
            with self.assertRaisesRegex(ValueError, "no chord symbol"):
                Chord.parse(text)


class Tuning(TestCase):
    def test_to_one_cent(self):
        for cents in (-42, -20, -3, 0, 7, 31, 48):
            x = np.concatenate([chord_sound([48, 60, 64, 67], 2, cents), chord_sound([45, 57, 60, 64], 2, cents)])
            self.assertAlmostEqual(tuning(tones([x])), cents, delta=1, msg=f"{cents} cents")

    def test_pitches_to_one_cent(self):
        found = tones([chord_sound([57], 3)])
        strongest = found.pitch[found.weight > 0.9 * found.weight.max()]
        self.assertAlmostEqual(float(np.median(strongest)), 57, delta=0.01)

    def test_noise_has_none(self):
        self.assertEqual(len(tones([np.zeros(4000, np.float32)]).pitch), 0)
        self.assertEqual(tuning(tones([np.zeros(4000, np.float32)])), 0)


class Finding(TestCase):
    def names(self, symbols, **more):
        x, m = played(symbols, **more)
        return [(str(s.chord), round(s.seconds, 6)) for s in chords_by_beat(tones([x]), m)], m

    def test_progressions(self):
        for progression in (
            ["C", "Am", "F", "G7"],
            ["Dm", "Bb", "F", "A"],
            ["Em", "Bm", "Cmaj7", "D"],
            ["Gm7", "C7", "F", "F#dim"],
        ):
            found, m = self.names(progression * 2)
            # a major seventh that is played once, on top, may be taken for the melody's
            plain = [
                "Cmaj7" if (n, wanted) == ("C", "Cmaj7") else n
                for (n, _), wanted in zip(found, progression * 2, strict=True)
            ]
            self.assertEqual(plain, progression * 2)
            lines = m.bar_seconds(np.arange(1, 9)).tolist()
            self.assertEqual([t for _, t in found], [round(t, 6) for t in lines])

    def test_changes_inside_the_bar_and_another_tuning(self):
        found, _ = self.names(["C", "F", "G", "Am"] * 2, beats_each=2, cents=35)
        self.assertEqual([n for n, _ in found], ["C", "F", "G", "Am"] * 2)

    def test_confidence_is_high_where_it_is_clear_and_lower_where_two_chords_sound_at_once(self):
        x, m = played(["C", "Am", "F", "G"])
        clear = [s.confidence for s in chords_by_beat(tones([x]), m)]
        self.assertGreater(min(clear), 0.9)
        both = x + 0.9 * played(["Bb", "F#m", "Em", "C#m"])[0]
        unsure = [s.confidence for s in chords_by_beat(tones([both]), m)]
        self.assertLess(np.mean(unsure), min(clear) - 0.1)

    def test_noise_is_no_chord(self):
        x, m = played(["C", "Am"])
        noise = np.random.default_rng(2).standard_normal(len(x)).astype(np.float32)
        self.assertEqual([str(s.chord) for s in chords_by_beat(tones([0.3 * noise]), m)], ["N.C."])

    def test_silence_is_no_chord(self):
        x, m = played(["C", "C", "Am", "Am"])
        x[len(x) // 2 :] *= 1e-5
        self.assertEqual([str(s.chord) for s in chords_by_beat(tones([x]), m)], ["C", "N.C."])
        self.assertEqual(find_chords(tones([x]), [1.0], np.zeros(0, bool)), [])

    def test_the_bass_votes_for_the_root(self):
        # C6 and Am7 have the same tones (common practice: the bass tells them apart); a walking bass leaves the root
        upper = [60, 64, 67, 69]
        for low, name in ((45, "Am7"), (36, "C")):
            beat = [chord_sound([low + step, *upper], 0.6, seed=step) for step in (0, 7, 3 + (low == 36), 7)]
            x = np.concatenate(beat * 4)
            m = TempoMap.steady(100, Meters(), 0.0, 4)
            found = {str(s.chord) for s in chords_by_beat(tones([x]), TempoMap.from_beats(m.beats().seconds, 0))}
            self.assertEqual({Chord.parse(f).root for f in found}, {Chord.parse(name).root}, found)

    def test_the_key(self):
        # Krumhansl 1990: the profile of C major itself correlates best with C major
        self.assertEqual(str(find_key(MAJOR[None])), "C major")
        for progression, key in (
            (["D", "G", "A7", "D"], "D major"),
            (["Dm", "Gm", "A", "Dm"], "D minor"),
            (["Eb", "Ab", "Bb7", "Eb"], "Eb major"),
        ):
            x, m = played(progression)
            self.assertEqual(str(find_key(chroma(tones([x]), m.beats().seconds))), key)

    def test_tracks_together(self):
        a, b = chord_sound([48, 52], 2), chord_sound([55], 2)
        both = chroma(joined([tones([a]), tones([b])]), [0.0, 2.0])[0]
        self.assertEqual(set(np.argsort(both)[-3:].tolist()), {0, 4, 7})


class Standing(TestCase):
    def setUp(self):
        self.map = TempoMap.steady(60, Meters(), 1.0, 4)
        self.map = TempoMap.from_beats(1.0 + np.arange(17), 0)
        self.spots = [
            TimedChord(1.02, Chord.parse("C"), 0.9),
            TimedChord(6.8, Chord.parse("F"), 0.8),
            TimedChord(7.1, Chord.parse("G"), 0.7),
        ]

    def names(self, spots, grain="beat"):
        return [(str(s.chord), s.seconds) for s in snapped_chords(spots, self.map, grain)]

    def test_on_beats_and_on_bars(self):
        self.assertEqual(self.names(self.spots), [("C", 1.0), ("G", 7.0)])  # two on one beat: the later
        self.assertEqual(self.names(self.spots[:2], "bar"), [("C", 1.0), ("F", 5.0)])

    def test_writing_over_adding_and_taking_away(self):
        after = with_chord(self.spots, self.map, "beat", 3.2, Chord.parse("Am"))
        self.assertEqual(self.names(after), [("C", 1.0), ("Am", 3.0), ("G", 7.0)])
        self.assertIsNone(after[1].confidence)
        self.assertEqual(self.names(with_chord(after, self.map, "beat", 3.4, None)), [("C", 1.0), ("G", 7.0)])

    def test_a_pad_holds_each_chord_up_to_the_next(self):
        pad = pad_notes(snapped_chords(self.spots, self.map), self.map)
        first = to_seconds(self.map, [n for n in pad if n.bar == 1])
        self.assertEqual({n.pitch % 12 for n in first}, {0, 4, 7})
        self.assertTrue(all(abs(n.start - 1) < 1e-9 and abs(n.end - 7) < 1e-9 for n in first))


class Voicing(TestCase):
    def test_tones_of_the_chord_moving_little(self):
        chords = [Chord.parse(s) for s in ("C", "Am", "F", "G7", "C", "Dm7/A", "N.C.", "E")]
        pads = voiced(chords)
        for chord, pitches in zip(chords, pads, strict=True):
            allowed = set(chord.classes) | ({chord.bass} if chord.bass is not None else set())
            self.assertEqual({p % 12 for p in pitches}, allowed)
        self.assertEqual(pads[5][0] % 12, 9)  # the written bass is the lowest
        for a, b in zip(pads[:4], pads[1:5], strict=True):
            # common practice: close voicings move by steps
            self.assertLess(max(min(abs(x - y) for y in a[1:]) for x in b[1:]), 5)

    def test_every_quality_can_be_voiced(self):
        for q in QUALITIES:
            self.assertGreater(len(voiced([Chord(3, q)])[0]), 2, q)
