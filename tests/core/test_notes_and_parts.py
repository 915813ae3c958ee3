"""Parts: riding the bars, keeping the clock, patterns, edits of notes, what a keyboard sends."""

from unittest import TestCase

import numpy as np

from core.instruments.kit import INSTRUMENTS, PERCUSSION, instrument_for
from core.instruments.stream import Player, render_block
from core.instruments.strokes import strokes_of
from core.notes import Note, ScoreNote, timing_difference, to_score, to_seconds
from core.parts import keyboard, roll
from core.parts.patterns import KEYS, PATTERNS, pattern_notes
from core.tempomap import Meter, Meters, TempoMap


def drifting(seed=4, meters=None, beats=64):
    rng = np.random.default_rng(seed)
    return TempoMap.from_beats(1.3 + np.cumsum(0.5 + 0.02 * rng.standard_normal(beats)), 0, meters)


NOTES = [ScoreNote(b, o, 0.5, 40 + b, 90) for b in range(1, 9) for o in (0.0, 0.75, 1.5, 3.9)]


class Tied(TestCase):
    def test_riding_notes_stand_where_the_map_s_own_conversion_puts_them(self):
        m = drifting()
        for n, p in zip(to_seconds(m, NOTES), NOTES, strict=True):
            self.assertEqual(n.start, float(m.seconds_at(m.meters.bar_quarters(p.bar) + p.offset)))
            self.assertEqual(n.end, float(m.seconds_at(m.meters.bar_quarters(p.bar) + p.offset + p.length)))

    def test_there_and_back(self):
        m = drifting(meters=Meters.of((1, "4/4"), (3, "6/8"), (5, "4/4")))
        for a, b in zip(NOTES, to_score(m, to_seconds(m, NOTES)), strict=True):
            q = m.meters.bar_quarters
            self.assertAlmostEqual(q(a.bar) + a.offset, q(b.bar) + b.offset, places=9)
            self.assertAlmostEqual(a.length, b.length, places=9)

    def test_an_odd_bar_earlier_leaves_a_note_in_its_bar(self):
        m = drifting()
        longer = TempoMap(m.seconds, m.quarters, m.meters.with_meter(2, Meter.parse("5/4"), only=True))
        there = to_seconds(longer, [ScoreNote(6, 1.0, 1, 60, 80)])[0]
        self.assertEqual(there.start, float(longer.seconds_at(longer.meters.bar_quarters(6) + 1)))

    def test_apart(self):
        here = [Note(0, 1, 60, 80), Note(2, 3, 60, 80)]
        there = [Note(0.01, 1, 60, 80), Note(1.97, 3, 60, 80)]
        self.assertAlmostEqual(timing_difference(here, there).mean, 20)
        self.assertAlmostEqual(timing_difference(here, there).largest, 30)
        self.assertEqual(timing_difference([], []).largest, 0)
        with self.assertRaises(ValueError):
            timing_difference(here, [])


class Sounding(TestCase):
    def test_however_it_is_cut_the_samples_are_the_same(self):
        notes = to_seconds(drifting(), NOTES)
        for name in INSTRUMENTS:
            strokes, player = strokes_of(notes, name), Player(name)
            whole = render_block(strokes, player, 48_000, 0, 200_000)
            starts = range(0, 200_000, 16_384)
            parts = np.concatenate([render_block(strokes, player, 48_000, a, 16_384) for a in starts])
            np.testing.assert_array_equal(whole, parts[:200_000], name)
            self.assertTrue(np.isfinite(whole).all() and np.abs(whole).max() > 0.02, name)

    def test_a_note_begins_on_its_nearest_sample(self):
        at = 0.123456
        x = render_block(strokes_of([Note(at, at + 0.2, 37, 127)], "drums"), Player("drums"), 48_000, 0, 48_000)
        self.assertEqual(int(np.flatnonzero(x[:, 0])[0]) - round(at * 48_000) in (0, 1), True)
        self.assertFalse(x[: round(at * 48_000)].any())

    def test_general_midi_families(self):
        # General MIDI sound set (RP-003), programs counted from 0: 33 finger bass, 89 warm pad, 24 nylon guitar
        for program, channel, name in (
            (33, 0, "bass"),
            (89, 0, "pad"),
            (24, 1, "pluck"),
            (0, 0, "keys"),
            (0, 9, "drums"),
        ):
            self.assertEqual(instrument_for(program, channel), name)


class Patterns(TestCase):
    def test_every_pattern_fits_its_bar(self):
        for p in PATTERNS.values():
            meter = Meter.parse(p.meter)
            self.assertAlmostEqual(p.quarters, meter.quarters)
            for rows in (p.groove, p.fill):
                steps = {len(text.replace("|", "")) for text in rows.values()}
                self.assertEqual(len(steps), 1, p.name)
                self.assertLessEqual(set(rows), set(KEYS))
                if not p.meter.endswith("/8"):
                    self.assertEqual(steps.pop() % meter.numerator, 0, p.name)
        self.assertEqual({p.meter for p in PATTERNS.values()} >= {"2/4", "3/4", "4/4", "5/4", "6/8", "2+2+3/8"}, True)

    def test_fills_opening_and_ending(self):
        p = PATTERNS["Boardwalk"]
        plain = pattern_notes(p, Meters(), 1, 12)
        snares = lambda notes, bar: sum(n.bar == bar and n.pitch == KEYS["snare"] for n in notes)  # noqa: E731
        with_fills = pattern_notes(p, Meters(), 1, 12, fill_every=4, opening=True, ending=True)
        self.assertGreater(snares(with_fills, 4), snares(plain, 4))
        self.assertGreater(snares(with_fills, 1), snares(plain, 1))
        self.assertEqual([n.offset for n in with_fills if n.bar == 12], [0.0, 0.0])
        self.assertTrue(all(n.channel == PERCUSSION for n in with_fills))
        self.assertIn(KEYS["crash"], [n.pitch for n in with_fills if n.bar == 2])

    def test_a_bar_of_another_length_holds_what_it_can(self):
        meters = Meters.of((1, "4/4"), (2, "2/4"), (3, "5/4"), (4, "4/4"))
        for n in pattern_notes(PATTERNS["Boardwalk"], meters, 1, 4):
            self.assertLess(n.offset, meters.meter_at(n.bar).quarters)
        five = [n.offset for n in pattern_notes(PATTERNS["Boardwalk"], meters, 3, 3) if n.pitch == KEYS["hat"]]
        self.assertEqual(max(five), 4.5)  # round again

    def test_a_shuffle_s_off_beats_stand_on_the_last_triplet(self):
        # common practice: swung eighths at two thirds of the beat
        p = PATTERNS["Cart track"]
        hats = {round(n.offset % 1, 3) for n in pattern_notes(p, Meters(), 1, 1) if n.pitch == KEYS["hat"]}
        self.assertEqual(hats, {0.0, 0.667})

    def test_bars_rise(self):
        with self.assertRaises(ValueError):
            pattern_notes(PATTERNS["Ferry"], Meters(), 4, 3)


class Roll(TestCase):
    def test_what_an_edit_does_not_name_stays_the_very_same(self):
        for after in (
            roll.move(NOTES, Meters(), {3}, 0.25, 2),
            roll.lengthen(NOTES, {3}, 2),
            roll.loudness(NOTES, {3}, 300),
        ):
            self.assertTrue(all(a is b for i, (a, b) in enumerate(zip(NOTES, after, strict=True)) if i != 3))
            self.assertIsNot(after[3], NOTES[3])

    def test_a_move_crosses_the_bar_line(self):
        after = roll.move([ScoreNote(2, 3.5, 1, 60, 80)], Meters.of((1, "4/4"), (3, "3/4")), {0}, 4)[0]
        self.assertEqual((after.bar, after.offset), (4, 0.5))

    def test_bars_again_in_place_of_what_is_there(self):
        after = roll.repeat(NOTES, 1, 2, 3)
        for k in (3, 5, 7):
            self.assertEqual([n.pitch for n in after if n.bar == k], [41] * 4)
        self.assertEqual(len(after), len(NOTES))
        with self.assertRaises(roll.RollError):
            roll.repeat(NOTES, 3, 2, 1)

    def test_there_is_no_such_pitch(self):
        with self.assertRaises(roll.RollError):
            roll.move([ScoreNote(1, 0, 1, 126, 80)], Meters(), {0}, 0, 2)
        with self.assertRaises(roll.RollError):
            roll.add([], ScoreNote(1, 0, 0, 60, 80))


class Keyboard(TestCase):
    """MIDI 1.0 (from memory): a note-on of velocity 0 is a note-off; controller 64 from 64 up holds."""

    def test_on_off_and_velocity_zero(self):
        found = keyboard.notes_from([(1.0, 0x90, 60, 80), (1.5, 0x90, 60, 0), (2.0, 0x91, 62, 70), (2.5, 0x81, 62, 0)])
        self.assertEqual(found, [Note(1.0, 1.5, 60, 80, 0), Note(2.0, 2.5, 62, 70, 1)])

    def test_the_pedal_holds_until_it_is_up(self):
        found = keyboard.notes_from(
            [(0.0, 0xB0, 64, 127), (1.0, 0x90, 60, 80), (1.2, 0x80, 60, 0), (2.0, 0xB0, 64, 0), (3.0, 0xB0, 1, 5)]
        )
        self.assertEqual(found, [Note(1.0, 2.0, 60, 80, 0)])

    def test_what_is_never_released_ends_with_the_recording(self):
        self.assertEqual(keyboard.notes_from([(1.0, 0x90, 60, 80)], 4.0), [Note(1.0, 4.0, 60, 80, 0)])

    def test_the_made_up_take_plays_the_bars_it_is_asked_for(self):
        m = drifting()
        sent = list(keyboard.made_up_take(m, 2, 5))
        self.assertEqual(sent, sorted(sent))
        notes = keyboard.notes_from(sent)
        self.assertGreater(len(notes), 10)
        self.assertGreater(notes[0].start, float(m.bar_seconds(2)) - 0.02)
        self.assertLess(notes[-1].end, float(m.bar_seconds(6)) + 0.05)
