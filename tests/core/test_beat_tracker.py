"""Finding beats: textbook checks of the building blocks, and the demo performances whose truth is known."""

import tempfile
from dataclasses import replace
from functools import cache
from pathlib import Path
from unittest import TestCase

import mir_eval
import numpy as np

from core.analysis import Source, analyse_sources
from core.demo import boathouse, others
from core.demo.files import write_tracks
from core.document import Document
from core.document.commands import TakeReading
from core.editing import apply
from core.editing.remedies import trusted
from core.listening import guides
from core.listening.attacks import NONE, Attacks
from core.listening.spectrum import Evidence
from core.listening.track import AnalysedTrack
from core.tempomap import Meter, TempoMap
from core.tempomap.splice import bars_between
from core.tracking import decoder, placement, tempo_candidates
from core.tracking.beat_tracker import TrackingOptions, track_beats
from core.tracking.context import NoBeats, build_context
from core.tracking.doubts.doubt import Remedy
from core.tracking.fit import bars_fit
from core.tracking.parameters import USUAL_RANGE
from core.tracking.redetect import redetect
from core.tracking.review import review
from tests.core.editing import Analysed
from tests.shared import pickled_once


def pulses(times, frames=6000, strengths=None):
    curve = np.zeros(frames)
    curve[np.round(np.asarray(times) * 100).astype(int)] = 1.0 if strengths is None else strengths
    return curve


class Periodicity(TestCase):
    def test_a_pulse_train_repeats_at_its_period_and_nowhere_between(self):
        """Closed form: the autocorrelation of a pulse train peaks at multiples of its period."""
        ac = guides.periodicity(pulses(np.arange(0.5, 59, 0.5)))
        self.assertEqual(int(np.argmax(ac[20:90])) + 20, 50)
        self.assertAlmostEqual(ac[0], 1)
        self.assertGreater(ac[50], 0.9)
        self.assertLess(np.abs(ac[10:40]).max(), 0.1)

    def test_79_where_the_music_runs_at_158_is_the_half_tempo_mistake(self):
        """Common practice: both counts, and the double, must be on offer."""
        found = tempo_candidates.tempo_candidates(pulses(np.arange(0.5, 59, 60 / 158)), 60, 200)
        for bpm in (79, 158):
            self.assertTrue(any(abs(c / bpm - 1) < 0.03 for c in found), (bpm, found))


class Decoding(TestCase):
    def brute(self, curve, shortest, longest, home, change, price, hold):
        """Every chain of beats, tried one by one: what the Viterbi has to find."""
        best, winner = 0.0, []

        def go(chain, interval, score):
            nonlocal best, winner
            if score > best and len(chain) > 1:
                best, winner = score, list(chain)
            for g in range(int(1.6 * interval), int(4 * interval) + 1) if interval else ():  # a held beat
                if chain[-1] + g < len(curve):
                    go([*chain, chain[-1] + g], interval, score + curve[chain[-1] + g] - price - hold)
            for i in range(shortest, longest + 1):
                t = chain[-1] + i
                if t >= len(curve):
                    break
                cost = 0.0
                if interval:
                    r = abs(np.log(i / interval))
                    if r > np.log(1.7):
                        continue
                    cost = change * (r * r / 0.01 if r < 0.1 else 2 * r / 0.1 - 1)
                here = 0.15 * (np.log(i / 100 * home / 60) / np.log(1.25)) ** 2
                go([*chain, t], i, score + curve[t] - price - cost - here)

        for t in range(len(curve)):
            go([t], 0, curve[t] - price)
        return best, winner

    def test_viterbi_finds_what_exhaustive_search_finds(self):
        rng = np.random.default_rng(8)
        for _ in range(6):
            curve = rng.uniform(0, 1, 48) ** 4
            home = 60 / 0.11
            costs = decoder.TransitionCosts(hold=0.3)
            frames, score = decoder.decode(curve, 60 / 0.14, 60 / 0.08, home, costs)
            best, chain = self.brute(curve, 8, 14, home, costs.change, costs.beat, costs.hold)
            self.assertAlmostEqual(score, best, places=6)
            self.assertEqual(frames.tolist(), chain)

    def test_a_drifting_pulse_is_followed(self):
        times = 1 + np.cumsum(0.5 + 0.06 * np.sin(np.arange(100) / 12))
        frames, _ = decoder.decode(pulses(times), 80, 170, 120)
        np.testing.assert_array_equal(frames, np.round(times * 100).astype(int))

    def test_a_missing_beat_is_bridged_and_a_pin_is_kept(self):
        times = np.arange(1, 50, 0.5)
        frames, _ = decoder.decode(pulses(np.delete(times, [20, 21, 50])), 80, 170, 120)
        self.assertEqual(len(frames), len(times))
        pinned, _ = decoder.decode(pulses(times), 80, 170, 120, pins=np.array([1113]))
        self.assertIn(1113, pinned)

    def test_a_held_beat_is_one_long_beat_and_the_tempo_after_it_is_what_it_was(self):
        for held in (0.82, 1.27):  # no whole number of beats: 0.5 s each
            times = np.concatenate([np.arange(1, 20, 0.5), 19.5 + held + np.arange(0, 20, 0.5)])
            frames, _ = decoder.decode(pulses(times), 80, 170, 120)
            np.testing.assert_array_equal(frames, np.round(times * 100).astype(int))

    def test_silence_has_no_beats(self):
        self.assertEqual(len(decoder.decode(np.zeros(3000), 60, 180, 100)[0]), 0)


class Placing(TestCase):
    def test_a_late_player_does_not_pull_the_beat(self):
        """A kick on the beat and a bass 9 ms behind: beats sit on the kick, the bass's delay is measured."""
        beats = np.arange(1, 40, 0.5)
        rng = np.random.default_rng(1)

        def player(name, times, punch):
            flux = np.zeros((4100, 3), np.float32)
            flux[np.round(times * 100).astype(int)] = punch / 3
            return AnalysedTrack(
                name,
                replace(Evidence.of_silence(4100), flux=flux),
                Attacks(times, np.ones(len(times)), np.ones(len(times))),
            )

        kick = player("kick", beats[::2], 6.0)
        bass = player("bass", beats + 0.009, 2.0)
        ranks = guides.rank_guides([kick, bass])
        self.assertEqual(max(ranks, key=lambda r: r.weight).name, "kick")
        late = placement.lateness_of(beats, [kick, bass], ranks)
        np.testing.assert_allclose(late, [0, 0.009], atol=5e-4)
        rough = beats + rng.uniform(-0.005, 0.005, len(beats))
        placed = placement.place_on_attacks(build_context([kick, bass]).by_attacks(), rough)
        self.assertLess(np.abs(placed.seconds[::2] - beats[::2]).max(), 0.001)
        self.assertLess(np.median(np.abs(placed.seconds - beats)), 0.001)

    def test_nothing_to_hear(self):
        silent = AnalysedTrack("x", Evidence.of_silence(500), NONE)
        with self.assertRaisesRegex(NoBeats, "hardly an attack"):
            track_beats([silent])


def analysed_demos():
    """The tracks of all demo performances, analysed as files, and what they were played to, by title."""
    tracks, truth = {}, {}
    for play in (boathouse.perform, others.rubato, others.machine):
        performance = play()
        with tempfile.TemporaryDirectory() as folder:
            write_tracks(performance, Path(folder))
            sources = [Source(p, p.name) for p in sorted(Path(folder).iterdir())]
            tracks[performance.title] = list(analyse_sources(sources))
        truth[performance.title] = performance.truth
    return tracks, truth


class Demos(TestCase):
    """mir_eval's beat metrics (Davies, Degara and Plumbley 2009) on performances whose truth is known."""

    @classmethod
    def setUpClass(cls):
        cls.tracks, cls.truth = pickled_once("tracks", analysed_demos, "demo")
        cls.found = staticmethod(cache(cls.search))

    @classmethod
    def search(cls, title, options=TrackingOptions()):
        return track_beats(cls.tracks[title], options)

    def measured(self, title):
        truth, found = self.truth[title], self.found(title).map.beats()
        beats, first = truth.beats(), float(truth.bar_seconds(1))
        music = beats.seconds >= first - 0.01
        inside = (found.seconds > first - 0.1) & (found.seconds < beats.seconds[-1] + 0.1)
        f = mir_eval.beat.f_measure
        return (
            f(beats.seconds[music], found.seconds[inside]),
            f(beats.seconds[music], found.seconds[inside], 0.02),
            f(beats.seconds[music & (beats.beat == 1)], found.seconds[inside & (found.beat == 1)]),
        )

    def test_the_quintet(self):
        beats, tight, downs = self.measured("Lantern on the Slipway")
        self.assertGreater(beats, 0.96)
        self.assertGreater(tight, 0.93)
        self.assertGreater(downs, 0.85)

    def test_the_rubato_solo(self):
        beats, tight, downs = self.measured("Letter to the Ferryman")
        self.assertGreater(beats, 0.95)
        self.assertGreater(tight, 0.95)
        self.assertGreater(downs, 0.85)

    def test_a_slow_down_of_the_rubato_solo_is_found(self):
        """From bar 8 on a quarter of the tempo is lost within four beats and won back."""
        title = "Letter to the Ferryman"
        found, truth = self.found(title).map, self.truth[title]
        start, end = (float(t) for t in truth.bar_seconds([8, 10]))
        first, last = (round(float(found.beat_index_at(t))) for t in (start, end))
        true = truth.seconds_of_beat(truth.beat_index_at(start) + np.arange(7))
        np.testing.assert_allclose(found.seconds_of_beat(np.arange(first, last + 1)), true, atol=0.03)

    def test_stretches_of_the_rubato_solo_are_detected_again(self):
        title = "Letter to the Ferryman"
        context, truth = build_context(self.tracks[title]), self.truth[title]
        index = truth.beats().index
        right = []
        for first in range(int(index[0]) + 4, int(index[-1]) - 14, 3):
            again = redetect(context, truth, first, first + 9).beats().seconds
            inside = truth.seconds_of_beat(np.arange(first + 1, first + 9))
            right.append(np.abs(inside[:, None] - again).min(axis=1) < 0.03)
        self.assertGreater(np.mean(right), 0.99)  # 0.958 without the beats around

    def counted(self, title, tempo_map, bars):
        """The share of beats that are right where so many bars at a time are counted by hand and detected again, for
        beats of a map that lie on true bar lines."""
        context, truth, right = build_context(self.tracks[title]), self.truth[title], []
        beats = truth.beats()
        lines = beats.seconds[(beats.beat == 1) & (beats.bar > 2)][:-2]
        for start, end in zip(lines[:-bars], lines[bars:], strict=True):
            inside = beats.seconds[(beats.seconds > start + 1e-6) & (beats.seconds < end - 1e-6)]
            first, last = (round(float(tempo_map.beat_index_at(t))) for t in (start, end))
            again = redetect(context, tempo_map, first, last, len(inside) + 1).beats().seconds
            right.append(np.abs(inside[:, None] - again).min(axis=1) < 0.05)
        return np.concatenate(right).mean()

    def test_counted_bars_of_the_rubato_solo_go_by_the_tempo_around(self):
        title = "Letter to the Ferryman"
        self.assertGreater(self.counted(title, self.truth[title], 2), 0.99)  # 0.963 by the stretch's mean tempo

    def test_counted_bars_are_right_where_the_map_around_is_at_double_tempo(self):
        title = "Lantern on the Slipway"
        seconds = self.truth[title].beats().seconds
        double = TempoMap.from_beats(np.sort(np.concatenate([seconds, (seconds[1:] + seconds[:-1]) / 2])))
        self.assertGreater(self.counted(title, double, 2), 0.95)  # 0.97, and 1.00 where the map around is right

    def test_no_remedy_takes_beats_of_the_rubato_solo_off_what_is_struck(self):
        """In bar 16 a beat is held, and counted as two; three even beats would make it a bar like the others."""
        title = "Letter to the Ferryman"
        found, true = self.found(title).map, self.truth[title].beats().seconds
        start, end = (float(found.bar_seconds(bar)) for bar in (16, 17))
        even = bars_between(found, start, end, 1, Meter(3, 4))
        recording, document = Analysed(self.tracks[title], [("even", even)]), Document(found)
        odd = next(d for d in review(recording.context(), found, USUAL_RANGE)[1] if d.kind == "meter")

        def right(tempo_map):
            return np.abs(true[:, None] - tempo_map.beats().seconds).min(axis=1) < 0.03

        self.assertTrue((right(found) & ~right(even)).any())
        self.assertGreater(bars_fit(recording.context(), even), bars_fit(recording.context(), found))
        wrong = Remedy("three even beats", TakeReading(0))
        (kept,) = trusted([replace(odd, remedies=[wrong, *odd.remedies])], document, recording, USUAL_RANGE)
        # the doubt's own remedy holds a beat
        (remedy,) = kept.remedies
        self.assertEqual(remedy.words, "it slows down or holds: bar 16 has 3 beats")
        after = apply(remedy.command, document, recording).document.map
        self.assertEqual(apply(remedy.command, document, recording, preview=True).document.map, after)
        self.assertTrue(right(after)[right(found)].all())
        held = (true > start - 0.1) & (true < end + 0.1)
        np.testing.assert_allclose(true[held], after.beats(45, 48).seconds, atol=0.03)

    def test_the_slow_down_into_a_hold_is_one_remedy_away(self):
        """The quintet slows down from bar 40 and holds a beat of bar 41, where the map has run on."""
        tracks, truth = self.tracks[boathouse.TITLE], boathouse.truth()
        found = self.found(boathouse.TITLE)
        at = truth.bar_seconds(41)
        remedies = [r.command for d in found.doubts if d.start <= at <= d.end for r in d.remedies]
        command = next(c for c in remedies if c.kind == "bars")
        start, end = command.stretch
        laid = bars_between(found.map, start, end, command.bars)
        first, last = (round(float(laid.beat_index_at(t))) for t in (start, end))
        laid = redetect(build_context(tracks), laid, first, last, last - first)
        bars = np.array([40, 41, 42])
        np.testing.assert_allclose(laid.bar_seconds(bars), truth.bar_seconds(bars), atol=0.03)
        # the beats of the slow-down are struck, those of the hold are not
        slowing = truth.seconds_of_beat(truth.beat_index_at(start) + np.arange(5))
        np.testing.assert_allclose(laid.seconds_of_beat(first + np.arange(5)), slowing, atol=0.03)
        later = laid.beats().seconds > end + 0.1
        np.testing.assert_array_equal(laid.beats().seconds[later], found.map.beats().seconds[-int(later.sum()) :])

    def test_the_machine_s_tempo(self):
        beats, tight, downs = self.measured("Tide Table")
        self.assertGreater(min(beats, tight, downs), 0.97)
        found = self.found("Tide Table").map.beats()
        slope = np.polyfit(np.arange(len(found)), found.seconds, 1)[0]
        self.assertAlmostEqual(60 / slope, others.MACHINE_BPM, places=2)
        self.assertAlmostEqual(float(found.seconds[found.bar >= 1][0]), others.MACHINE_START, delta=0.003)

    def test_the_same_on_every_run(self):
        one, two = self.found("Lantern on the Slipway"), self.search("Lantern on the Slipway")
        self.assertEqual(one.map, two.map)
        self.assertTrue((one.confidence == two.confidence).all())

    def test_options_are_kept(self):
        slow = self.search("Tide Table", TrackingOptions(tempo=(40, 70)))
        self.assertAlmostEqual(60 / np.median(np.diff(slow.map.beats().seconds)), others.MACHINE_BPM / 2, delta=1)
        self.assertEqual(self.search("Tide Table", TrackingOptions(meter=Meter(3))).map.meters.meter_at(1), Meter(3))
        alone = self.search("Lantern on the Slipway", TrackingOptions(guides={"Double bass.wav": 1.0}))
        self.assertEqual([r.name for r in alone.guides if r.weight > 0], ["Double bass.wav"])

    def test_confidence_is_one_a_beat(self):
        found = self.found("Lantern on the Slipway")
        self.assertEqual(len(found.confidence), len(found.map.beats()))
        self.assertTrue(((found.confidence >= 0) & (found.confidence <= 1)).all())
