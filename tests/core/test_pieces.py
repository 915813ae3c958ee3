"""Several pieces in one recording, as of a concert: told apart, each found by itself, mended by itself."""

from dataclasses import replace
from unittest import TestCase, mock

import numpy as np

from core.document import BarLine, Right, WithoutBeats
from core.document import commands as c
from core.editing.obeying import obeying
from core.editing.remedies import trusted
from core.editing.search_options import search_options, with_kept_downbeats
from core.listening.excerpt import SLOW, excerpt
from core.listening.rates import FRAME_RATE
from core.tempomap import Meter, Meters, TempoMap
from core.tempomap.bar_lines import with_lines_moved
from core.tracking.beat_tracker import TrackingOptions, track_beats
from core.tracking.context import build_context
from core.tracking.doubts.doubt import WHOLE, Doubt, Remedy
from core.tracking.doubts.in_piece import in_piece
from core.tracking.doubts.settled import Settlement, is_settled
from core.tracking.joining import joined_results
from core.tracking.music import apart
from core.tracking.parameters import USUAL_RANGE
from core.tracking.pieces import find_pieces, joined, music_in, of_piece, parts_of, still_apart
from core.tracking.review import review
from tests.core.editing import Analysed, do, lines, on
from tests.core.takes import (
    RATE,
    bass_line,
    chords,
    drift,
    groove,
    record_one_after_the_other,
    tempo_map,
)
from tests.core.test_music import talk


class ToldApart(TestCase):
    """Log-odds of each beat of a chain being music."""

    def runs(self, *parts):
        return [(p.start, p.stop) for p in apart(np.concatenate([np.full(n, value) for n, value in parts]))]

    def test_music_all_through_is_one_piece(self):
        self.assertEqual(self.runs((100, 4.0)), [(0, 100)])

    def test_a_pause_between_two_pieces(self):
        self.assertEqual(self.runs((40, 4.0), (20, -5.0), (60, 3.0)), [(0, 40), (60, 120)])

    def test_a_longer_pause_hides_no_shorter_one(self):
        parts = (40, 4.0), (14, -4.0), (30, 4.0), (50, -8.0), (30, 4.0)
        self.assertEqual(self.runs(*parts), [(0, 40), (54, 84), (134, 164)])

    def test_what_is_around_a_concert_is_left_out(self):
        parts = (30, -6.0), (40, 4.0), (20, -5.0), (60, 3.0), (40, -6.0)
        self.assertEqual(self.runs(*parts), [(30, 70), (90, 150)])

    def test_a_break_of_two_bars_is_no_pause(self):
        self.assertEqual(self.runs((40, 4.0), (7, -9.0), (60, 3.0)), [(0, 107)])

    def test_nor_is_what_may_be_music(self):
        self.assertEqual(self.runs((40, 4.0), (20, -0.9), (60, 3.0)), [(0, 120)])

    def test_a_few_bars_of_trying_out_are_no_piece(self):
        self.assertEqual(self.runs((40, 4.0), (20, -5.0), (8, 4.0), (20, -5.0), (60, 3.0)), [(0, 40), (88, 148)])


class Joined(TestCase):
    def setUp(self):
        one = Meters.of((1, "4/4"), (8, "2/4"), (9, "4/4"))
        self.one = TempoMap.from_beats(2 + 0.5 * np.arange(51), -1, one)
        self.other = TempoMap.from_beats(40.1 + 0.8 * np.arange(38), -2, Meters.of((1, "3/4")))
        self.map = joined([self.one, self.other])

    def test_every_beat_and_every_bar_line_stays(self):
        beats = self.map.beats()
        found = dict(zip(beats.seconds.round(6).tolist(), beats.beat.tolist(), strict=True))
        for part in (self.one, self.other):
            own = part.beats()
            for at, beat in zip(own.seconds.round(6).tolist(), own.beat.tolist(), strict=True):
                self.assertEqual(found[at], beat)

    def test_the_tempo_before_goes_on_in_whole_bars(self):
        seconds = self.map.beats().seconds
        gaps = np.diff(seconds[(seconds >= 27.0) & (seconds <= 40.1)])
        np.testing.assert_allclose(gaps, gaps[0])
        self.assertAlmostEqual(gaps[0], 0.5, delta=0.04)

    def test_bars_are_counted_on_in_the_meter_of_each(self):
        bar = int(self.map.meters.bars_at(self.map.quarters_at(40.1 + 2 * 0.8)))
        self.assertGreater(bar, 14)
        self.assertEqual(self.map.meters.meter_at(bar), Meter(3))
        self.assertEqual(self.map.meters.meter_at(bar + 5), Meter(3))
        self.assertEqual([self.map.meters.meter_at(b).numerator for b in (7, 8, 9)], [4, 2, 4])

    def test_its_parts_are_the_pieces_again(self):
        stretches = [(0, 3000), (3700, 8000)]
        for part, own in zip(parts_of(self.map, stretches), (self.one, self.other), strict=True):
            np.testing.assert_allclose(part.beats().seconds, own.beats().seconds)
            np.testing.assert_array_equal(part.beats().beat, own.beats().beat)

    def test_the_next_search_keeps_what_was_moved_in_one_of_them(self):
        stretches = [(0, 3000), (3700, 8000)]
        for first, last in ((0, 49), (75, 112)):
            moved = with_lines_moved(self.map, 1, first, last)
            again = with_kept_downbeats(self.map, moved, [(self.map, moved)], stretches)
            self.assertEqual(lines(again), lines(moved))
        self.assertEqual(with_kept_downbeats(self.map, self.map, [(self.map, moved)], stretches), self.map)

    def test_half_the_tempo_stays_half_in_its_piece(self):
        slow = do(on(self.map), c.Ratio("1:2", stretch=(1.9, 27.1))).map
        options = search_options(TrackingOptions(), on(slow), [(self.map, slow)], [(0, 3000), (3700, 8000)])
        first, second = (of_piece(options, piece).tempo for piece in ((0, 3000), (3700, 8000)))
        self.assertTrue(first[0] < 60 < first[1] < 120)
        self.assertEqual(second, USUAL_RANGE)

    def test_a_second_piece_close_behind(self):
        near = TempoMap.from_beats(self.one.seconds[-1] + 0.4 + 0.8 * np.arange(20), 0, Meters.of((1, "3/4")))
        found = joined([self.one, near])
        self.assertTrue((np.diff(found.quarters) > 0).all())
        self.assertAlmostEqual(float(found.bar_seconds(found.meters.bars_at(found.quarters_at(near.seconds[0])))),
                               float(near.seconds[0]))  # fmt: skip


class Concert(TestCase):
    """A band at 132, then fourteen seconds of talk, then a slow waltz on one instrument, softer."""

    @classmethod
    def setUpClass(cls):
        cls.band = tempo_map(drift(64, 132), Meters.of((1, "4/4")))
        cls.waltz = tempo_map(drift(72, 88, seed=5), Meters.of((1, "3/4")))
        loud = groove(cls.band, 16) | bass_line(cls.band, 16) | chords(cls.band, 16)
        soft = chords(cls.waltz, 24, level=0.25) | bass_line(cls.waltz, 24)
        cls.tracks, cls.starts = record_one_after_the_other(0.05 * talk(14.0), (cls.band, loud), (cls.waltz, soft))
        cls.found = track_beats(cls.tracks)
        cls.recording = Analysed(cls.tracks, pieces=cls.found.pieces)

    def true(self, k):
        return (self.band, self.waltz)[k].beats().seconds + self.starts[k]

    def bars(self, k):
        beats = (self.band, self.waltz)[k].beats()
        return beats.seconds[beats.beat == 1] + self.starts[k]

    def test_each_piece_has_its_own_tempo_and_bars(self):
        beats = self.found.map.beats()
        for k in (0, 1):
            true, bars = self.true(k), self.bars(k)
            inside = (beats.seconds > true[0] - 0.1) & (beats.seconds < true[-1] + 0.1)
            found, downs = beats.seconds[inside], beats.seconds[inside & (beats.beat == 1)]
            self.assertLess(np.median(np.abs(found[:, None] - true).min(axis=1)), 0.03)
            self.assertAlmostEqual(len(found), len(true), delta=2)
            self.assertGreater(np.mean(np.abs(bars[:, None] - downs).min(axis=1) < 0.05), 0.9)

    def test_what_is_found_is_reported_for_every_beat(self):
        count = len(self.found.map.beats())
        self.assertEqual((len(self.found.confidence), len(self.found.features)), (count, count))
        self.assertEqual([r.name for r in self.found.guides], [t.name for t in self.tracks])
        self.assertTrue(any(a.name.startswith("bars 1 to ") for a in self.found.alternatives))

    def test_the_pause_is_told_and_can_be_made_silent(self):
        (pause,) = [d for d in self.found.doubts if d.kind == "pause"]
        self.assertGreater(pause.start, self.true(0)[-1])
        self.assertLess(pause.end, self.true(1)[0])
        (kept,) = trusted([pause], on(self.found.map), self.recording, USUAL_RANGE)
        document = do(on(self.found.map), kept.remedies[0].command)
        (said,) = document.statements
        self.assertEqual((document.map, said), (self.found.map, WithoutBeats(pause.start, pause.end)))
        self.assertTrue(is_settled(pause, np.zeros(0), [Settlement("free", said.start, said.end)]))

    def test_another_meter_after_the_pause_is_no_odd_bar(self):
        self.assertNotIn("meter", [d.kind for d in self.found.doubts])

    def test_a_doubt_about_all_of_a_piece_mends_that_piece_alone(self):
        """The waltz counted at double tempo."""
        fast = do(on(self.found.map), c.Ratio("2:1", stretch=(self.true(1)[0] - 0.3, self.true(1)[-1] + 0.3))).map
        told = [
            d
            for d in review(self.recording.context(), fast, chains=self.found.chains, pieces=self.found.pieces)[1]
            if d.kind == "level"
        ]
        self.assertTrue(told)
        doubt = told[0]
        self.assertGreater(doubt.start, self.true(0)[-1])
        self.assertRegex(doubt.reason, "^Bars [0-9]+ to [0-9]+: ")
        (kept,) = trusted([doubt], on(fast), self.recording, USUAL_RANGE)
        half = next(r.command for r in kept.remedies if r.command.ratio == "1:2")
        mended = do(on(fast), half, recording=self.recording).map.beats().seconds
        band = self.true(0)
        np.testing.assert_allclose(mended[mended < band[-1]], fast.beats().seconds[fast.beats().seconds < band[-1]])
        self.assertAlmostEqual(np.median(np.diff(mended[mended > self.true(1)[0]])), 60 / 88, delta=0.05)

    def test_beat_1_moves_in_its_own_piece(self):
        beats = self.found.map.beats()
        for k, place in ((1, 20), (0, 33)):
            at = self.true(k)[place]
            beat = int(beats.index[np.abs(beats.seconds - at).argmin()])
            moved = do(on(self.found.map), c.MakeOne(beat), recording=self.recording).map
            other, new = self.bars(1 - k)[2:-2], np.array(list(lines(moved)))
            self.assertIn(round(float(self.found.map.seconds_of_beat(beat)), 6), new)
            self.assertLess(np.abs(other[:, None] - new).min(axis=1).max(), 0.05)

    def test_a_beat_fixed_in_the_pause_makes_them_one(self):
        context, frames, at = self.recording.context(), self.found.chains[0], float(self.true(0)[-1]) + 7.0
        self.assertEqual(len(find_pieces(context, through(frames), TrackingOptions())[0]), 2)
        self.assertEqual(len(find_pieces(context, through(frames), TrackingOptions(pins=[at]))[0]), 1)
        pinned = do(on(self.found.map), c.Insert(at, free=True)).map
        self.assertEqual(len(still_apart(self.found.pieces, self.found.map, 10_000)), 2)
        self.assertEqual(still_apart(self.found.pieces, pinned, 10_000), [])

    def test_the_rest_lies_between_the_ends_that_the_engineer_gave(self):
        """As if the waltz were too soft beside the band."""
        context, frames = self.recording.context(), through(self.found.chains[0])
        with mock.patch("core.tracking.pieces.runs_of_music", return_value=[slice(0, 60)]):
            ((start, stop),) = find_pieces(context, frames, TrackingOptions())[1]
            self.assertEqual((start, stop), ((int(frames[63]) + 1) // SLOW * SLOW, len(context.onset_envelope)))
            self.assertEqual(find_pieces(context, frames, TrackingOptions(end=start / FRAME_RATE + 2))[1], [])

    def test_tracks_that_have_gone_leave_what_is_left(self):
        (start, stop), (later, _) = self.found.pieces
        self.assertEqual(still_apart(self.found.pieces, self.found.map, later - 100), [])
        kept = still_apart(self.found.pieces, self.found.map, later + 2000)
        self.assertEqual(kept, [(start, stop), (later, later + 2000)])

    def test_a_piece_is_heard_as_if_it_were_alone(self):
        start, stop = self.found.pieces[1]
        part = self.recording.context().between(start, stop)
        alone = build_context([excerpt(t, start, stop) for t in self.tracks])
        there = slice(start, start + len(alone.onset_envelope))
        np.testing.assert_array_equal(part.decoding_curve[there], alone.decoding_curve)
        self.assertFalse(part.onset_envelope[:start].any())
        self.assertEqual(len(part.onset_envelope), len(self.recording.context().onset_envelope))
        frames = np.round(self.true(1)[:20] * FRAME_RATE).astype(np.int64)
        np.testing.assert_allclose(part.bands.along(frames), alone.bands.along(frames - start), atol=1e-5)

    def test_a_bar_line_that_was_said_moves_those_of_its_piece(self):
        at = float(self.found.map.seconds_of_beat(round(float(self.found.map.beat_index_at(self.true(1)[31])))))
        said = on(self.found.map, BarLine(at))
        found = obeying(self.recording, said, [])
        self.assertIn(round(at, 6), lines(found))
        self.assertEqual(lines(self.found.map).keys() & before(self.true(1)[0], lines(found)),
                         before(self.true(1)[0], lines(self.found.map)))  # fmt: skip
        beats = found.beats()
        meters = [
            found.meters.meter_at(int(bar)).beats for bar in np.unique(beats.bar[beats.seconds > self.true(1)[0]])
        ]
        self.assertGreater(meters.count(3), len(meters) - 4)

    def test_beats_that_are_known_of_one_piece_set_no_tempo_for_the_other(self):
        band = self.true(0)
        lock = Right.of(self.found.map, float(band[4]) - 0.1, float(band[20]) + 0.1)
        options = search_options(TrackingOptions(), on(self.found.map, lock), (), self.found.pieces)
        self.assertEqual(options.tempo, USUAL_RANGE)
        first, second = (of_piece(options, piece) for piece in self.found.pieces)
        self.assertAlmostEqual(first.known[0][0], lock.seconds[0] - self.found.pieces[0][0] / FRAME_RATE)
        self.assertTrue(80 < first.tempo[0] < 132 < first.tempo[1] < 215)
        self.assertEqual(second.tempo, USUAL_RANGE)
        self.assertEqual((len(first.known), len(second.known)), (1, 0))

    def test_a_pause_without_beats_changes_nothing_in_the_pieces(self):
        silent = [(float(self.true(0)[-1]) + 0.5, float(self.true(1)[0]) - 0.5)]
        first, second = (of_piece(TrackingOptions(no_beats=silent), piece) for piece in self.found.pieces)
        self.assertTrue(all(a < b and b > 0 for a, b in (*first.no_beats, *second.no_beats)))
        again = track_beats(self.tracks, TrackingOptions(no_beats=silent, refused=[(0.1, 0.2)]))
        waltz = again.map.beats().seconds
        waltz = waltz[waltz > self.true(1)[0] - 0.3]
        self.assertLess(np.median(np.abs(waltz[:, None] - self.true(1)).min(axis=1)), 0.03)
        options = of_piece(TrackingOptions(refused=[(0.1, 0.2)]), self.found.pieces[1])
        self.assertEqual(options.refused, [])

    def test_music_is_told_from_talk_by_itself(self):
        context = self.recording.context()
        (_, stop), (later, over) = self.found.pieces
        chain = self.found.chains[0]
        alone = music_in(context.alone(later, over), (later, over), chain[chain >= later] - later)
        self.assertTrue(later <= alone[0] < 100 * self.true(1)[0] and 100 * self.true(1)[-1] < alone[1] <= over)
        pause = (stop + 100) // SLOW * SLOW, later - 100
        self.assertIsNone(music_in(context.alone(*pause), pause, np.arange(0, pause[1] - pause[0], 45)))


class Excerpts(TestCase):
    def test_it_has_what_lies_in_the_stretch_from_time_0_on(self):
        truth = tempo_map(drift(16, 110), Meters.of((1, "4/4")))
        (track, *_), _ = record_one_after_the_other(np.zeros(RATE), (truth, groove(truth, 4)))
        part = excerpt(track, 200, 601)
        np.testing.assert_array_equal(part.evidence.flux, track.evidence.flux[200:601])
        np.testing.assert_array_equal(part.evidence.pitches, track.evidence.pitches[50:151])
        inside = (track.attacks.seconds >= 2) & (track.attacks.seconds < 6.01)
        np.testing.assert_allclose(part.attacks.seconds, track.attacks.seconds[inside] - 2)
        np.testing.assert_array_equal(part.attacks.sharpness, track.attacks.sharpness[inside])


class Stretches(TestCase):
    """What concerns a whole map may concern a stretch of it."""

    def setUp(self):
        self.map = TempoMap.from_beats(1 + 0.5 * np.arange(64), 0, Meters.of((1, "4/4")))
        self.stretch = (8.9, 16.6)  # beats 16 to 31, bars 5 to 8

    def test_beats_move_in_it_alone(self):
        for command, by in ((c.Shift(0.1, self.stretch), 0.1), (c.ShiftByBeats(0.5, self.stretch), 0.25)):
            moved = do(on(self.map), command).map.beats().seconds - self.map.beats().seconds
            np.testing.assert_allclose(moved[16:32], by)
            self.assertFalse(moved[:16].any() or moved[32:].any())

    def test_bar_lines_move_in_it_alone(self):
        for by in (1, -1):
            found = np.array(list(lines(do(on(self.map), c.Downbeat(by, self.stretch)).map)))
            inside = (found > 8) & (found < 17)
            np.testing.assert_allclose(found[inside], np.arange(9, 17, 2) + 0.5 * by)
            np.testing.assert_allclose(found[~inside], [*np.arange(1, 9, 2), *np.arange(17, 33, 2)])

    def test_ends_inside_a_concert_are_no_ends_of_the_music(self):
        take_in = [Remedy("", c.Ends(to=40.0))]
        doubts = [
            Doubt("end", 30, 41, 16, 61, 1, "", take_in),
            Doubt("end", 0, 1, 1, 0, 1, "", [Remedy("", c.Starts(to=0.1))]),
        ]
        self.assertEqual(in_piece(doubts, self.map, is_first=True, is_last=False), doubts[1:])
        self.assertEqual(in_piece(doubts, self.map, is_first=False, is_last=True), doubts[:1])

    def test_all_whole_kinds_are_kept_to_their_bars(self):
        commands = c.Ratio("1:2"), c.ShiftByBeats(0.5), c.Downbeat(1), c.SetMeter(1, "3/4"), c.Shift(0.02)
        doubts = [Doubt(k, 0, 33, 1, 0, 2, "Why.", [Remedy("", x)]) for k, x in zip(WHOLE, commands, strict=True)]
        for doubt in in_piece(doubts, self.map, is_first=False, is_last=False):
            self.assertEqual(doubt.reason, "Bars 1 to 16: Why.")
            if doubt.kind == "bar length":  # a meter goes on in the pieces behind it
                self.assertEqual(doubt.remedies, [])
                continue
            start, end = doubt.remedies[0].command.stretch
            self.assertTrue(0.7 < start < 1 and 32.5 < end < 32.8)


class CloseTogether(TestCase):
    """Pieces between which there is hardly a pause: beats of one may reach into the next."""

    @classmethod
    def setUpClass(cls):
        two = tempo_map(np.full(16, 100.0), Meters.of((1, "4/4"))), tempo_map(np.full(24, 132.0), Meters.of((1, "4/4")))
        tracks, starts = record_one_after_the_other(
            0.05 * talk(12.0), *((m, groove(m, len(m.beats()) // 4)) for m in two)
        )
        cls.context, cls.at = build_context(tracks), round(starts[1] * 100) // 4 * 4
        ends = (0, cls.at), (cls.at, len(cls.context.onset_envelope))
        cls.pieces = [(end, track_beats(cls.context.alone(*end).tracks)) for end in ends]

    def joined(self, first):
        (one, found), (other, then) = self.pieces
        return joined_results(self.context, [replace(found, **first(found)), then], [one, other], TrackingOptions())

    def late(self, tempo_map):
        """The map with one more beat, behind the next piece's first one."""
        points = (
            np.append(tempo_map.seconds, self.at / 100 + 1.5),
            np.append(tempo_map.quarters, tempo_map.quarters[-1] + 1),
        )
        return TempoMap(*points, tempo_map.meters)

    def test_other_tempos_that_reach_into_the_next_piece_are_cut(self):
        found = self.joined(
            lambda r: {"hypotheses": [replace(h, frames=np.append(h.frames, self.at + 130)) for h in r.hypotheses]}
        )
        for chain in found.chains:
            self.assertGreater(np.diff(chain).min(), 0)

    def test_readings_that_do_are_not_offered(self):
        found = self.joined(lambda r: {"alternatives": [replace(a, map=self.late(a.map)) for a in r.alternatives]})
        self.assertTrue(self.pieces[0][1].alternatives)
        self.assertEqual(len(found.alternatives), len(self.pieces[1][1].alternatives))

    def test_beats_that_do_make_them_one_piece(self):
        self.assertTrue(self.joined(lambda r: {"map": self.late(r.map)}) is None)


def before(seconds, found):
    return {at for at in found if at < seconds}


def through(frames):
    """A chain of beats counted on through the longest gap in it."""
    k = int(np.diff(frames).argmax())
    return np.sort(np.concatenate([frames, np.arange(frames[k], frames[k + 1], 50)[1:-1]]))
