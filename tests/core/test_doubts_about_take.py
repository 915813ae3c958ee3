"""Doubts about the whole take, and the numbers by which tempo hypotheses are compared, in cases that can be counted."""

from dataclasses import replace
from unittest import TestCase, mock

import numpy as np

from core.document.commands import Downbeat, SetMeter
from core.tempomap import Meter, MeterChange, Meters, TempoMap
from core.tracking import bars, confidence
from core.tracking.bars import BarDivision
from core.tracking.candidate import MapCandidate
from core.tracking.doubts import about_take, bar_evidence
from core.tracking.doubts.settled import Settlement, is_settled
from core.tracking.hypothesis import TempoHypothesis, agreement, compared, score_hypothesis
from core.tracking.parameters import (
    DOUBTED_WINDOW,
    FAR_BEHIND,
    HYPOTHESIS_WEIGHTS,
    USUAL_RANGE,
    WINDOW_WEIGHTS,
)


def pulses(frames, height=1.0, count=3000):
    curve = np.zeros(count)
    curve[frames] = height
    return curve


class Numbers(TestCase):
    def setUp(self):
        self.frames = np.arange(100, 2900, 50)
        self.activation = np.convolve(pulses(self.frames), [0.3, 0.7, 0.95, 0.7, 0.3], "same")

    def test_full_agreement_is_one_and_half_and_double_lose(self):
        full = agreement(self.activation, self.frames)
        double = agreement(self.activation, np.arange(100, 2876, 25))
        half = agreement(self.activation, self.frames[::2])
        self.assertGreater(full, 0.95)
        self.assertLess(max(half, double), 0.8)

    def test_every_number_is_described_and_finite(self):
        found = score_hypothesis(pulses(self.frames), self.frames, *USUAL_RANGE, self.activation)
        self.assertEqual(list(found.features), list(HYPOTHESIS_WEIGHTS))
        self.assertTrue(all(np.isfinite(x) for x in found.features.values()))
        self.assertAlmostEqual(found.score, sum(HYPOTHESIS_WEIGHTS[k] * v for k, v in found.features.items()))

    def test_a_range_that_was_asked_for_counts_more_than_the_usual_one(self):
        usual = score_hypothesis(pulses(self.frames[::3]), self.frames[::3], *USUAL_RANGE)
        asked = score_hypothesis(pulses(self.frames[::3]), self.frames[::3], 100, 140)
        self.assertGreater(usual.score - asked.score, 5)

    def test_listeners_prefer_some_hundred_beats_a_minute(self):
        """Parncutt 1994: pulse salience falls by exp(-1/2) at a factor of 10 ** 0.2 either way."""
        frames = {bpm: np.arange(50, 2900, round(6000 / bpm)) for bpm in (60, 120, 200)}
        pace = {bpm: score_hypothesis(pulses(f), f, *USUAL_RANGE).features["pace"] for bpm, f in frames.items()}
        self.assertLess(pace[120], min(pace[60], pace[200]))
        self.assertAlmostEqual(HYPOTHESIS_WEIGHTS["pace"] * np.log2(10**0.2) ** 2, -0.5, delta=0.01)

    def test_the_margin_leaves_out_the_same_tempo(self):
        best = score_hypothesis(pulses(self.frames), self.frames, *USUAL_RANGE)
        same = replace(best, score=best.score + 5)
        other = replace(best, bpm=2 * best.bpm, score=best.score - 0.5)
        self.assertAlmostEqual(confidence.margin(best, [same, other]), 0.5)
        self.assertEqual(confidence.margin(best, [same]), 6.0)

    def with_patterns(self, *patterns):
        one = score_hypothesis(pulses(self.frames), self.frames, *USUAL_RANGE)
        return [replace(one, features={**one.features, "pattern": p}) for p in patterns]

    def test_the_pattern_that_is_recognised_best_counts_and_how_wrong_the_others_are_does_not(self):
        found = compared(self.with_patterns(4.0, -9.0, 5.5, 1.0))
        self.assertEqual([h.features["behind"] for h in found], [1.5, FAR_BEHIND, 0.0, FAR_BEHIND])
        lost = [found[2].score - h.score for h in found]
        np.testing.assert_allclose(lost, -HYPOTHESIS_WEIGHTS["behind"] * np.array([1.5, FAR_BEHIND, 0, FAR_BEHIND]))

    def test_where_no_pattern_is_recognised_all_are_alike(self):
        found = compared(self.with_patterns(-0.5, -9.0))
        self.assertEqual([h.features["behind"] for h in found], [0.0, 0.0])
        self.assertEqual(compared([]), [])

    def test_hypotheses_can_be_compared_again_among_others(self):
        found = compared(self.with_patterns(1.0, 5.0, 0.0))
        again = compared(found[::2])
        self.assertEqual([h.features["behind"] for h in again], [0.0, 1.0])
        self.assertEqual(again, compared(self.with_patterns(1.0, 0.0)))


class Doubted(TestCase):
    def setUp(self):
        self.frames = np.arange(100, 2900, 50)
        self.best = score_hypothesis(pulses(self.frames), self.frames, *USUAL_RANGE)
        self.map = TempoMap.from_beats(self.frames / 100)
        self.sure = np.full(len(self.frames), 0.99)

    def rival(self, ratio, lost):
        return replace(self.best, bpm=ratio * self.best.bpm, score=self.best.score - lost)

    def test_a_rival_that_fits_as_well_is_offered_with_its_tempo(self):
        (doubt,) = about_take.level(self.map, [self.best, self.rival(0.5, 0.0)], self.sure)
        self.assertEqual((doubt.kind, doubt.remedies[0].command.kind), ("level", "ratio"))
        self.assertIn("60 beats a minute", doubt.reason)

    def test_a_fast_tempo_is_told_as_the_map_has_it(self):
        """Frames of 10 ms count beats of 333 ms as 330: 182 a minute."""
        fast = replace(self.best, bpm=6000 / 33)
        exact = TempoMap.from_beats(1 + np.arange(56) / 3)
        (doubt,) = about_take.level(exact, [fast, replace(fast, bpm=fast.bpm / 2)], self.sure)
        self.assertIn("90 beats a minute may be meant, not 180.", doubt.reason)

    def test_the_nearer_the_rival_the_more_probable_the_mistake(self):
        agreed = replace(self.best, features={**self.best.features, "agreement": 0.9, "pattern": 10.0})

        def chance(lost, pattern):
            rival = self.rival(2.0, lost)
            rival = replace(rival, features={**rival.features, "pattern": pattern})
            return about_take.wrong_level(agreed, [rival], self.sure)

        by_score = [chance(lost, 10.0) for lost in (0.0, 1.0, 3.0, 6.0)]
        by_pattern = [chance(1.0, pattern) for pattern in (15.0, 10.0, 5.0, 0.0)]
        for chances in (by_score, by_pattern):
            self.assertEqual(chances, sorted(chances, reverse=True))
        self.assertLess(by_pattern[-1], about_take.DOUBTED_LEVEL)

    def test_a_take_whose_beats_are_less_sure_is_likelier_at_a_wrong_tempo(self):
        agreed = replace(self.best, features={**self.best.features, "agreement": 0.9, "pattern": 10.0})

        by_confidence = [
            about_take.wrong_level(agreed, [self.rival(2.0, 1.0)], np.full(len(self.frames), confidence))
            for confidence in (0.99, 0.9, 0.5)
        ]
        self.assertEqual(by_confidence, sorted(by_confidence))
        self.assertLess(by_confidence[0], about_take.DOUBTED_LEVEL)
        self.assertGreater(by_confidence[-1], 3 * about_take.DOUBTED_LEVEL)

    def test_how_sure_beats_usually_are(self):
        """Odds of 9 to 1 are ln 9 nats, some less sure beats tell nothing; none counts as surer than 0.999."""
        self.assertAlmostEqual(about_take.usual_confidence(np.repeat([0.9, 0.5], [45, 11])), np.log(9))
        self.assertAlmostEqual(about_take.usual_confidence(np.ones(20)), np.log(999))

    def test_the_likelier_the_mistake_the_graver_the_doubt(self):
        with mock.patch.object(about_take, "wrong_level") as wrong:
            for wrong.return_value, severity in ((0.12, 1), (0.3, 2), (0.7, 3)):
                (doubt,) = about_take.level(self.map, [self.best, self.rival(0.5, 0.0)], self.sure)
                self.assertEqual(doubt.severity, severity)
            wrong.return_value = 0.05
            self.assertEqual(about_take.level(self.map, [self.best, self.rival(0.5, 0.0)], self.sure), [])

    def test_an_unlikely_tempo_is_doubted_though_no_other_was_found(self):
        unlike = replace(self.best, features={**self.best.features, "agreement": 0.0, "pattern": -20.0})
        near = replace(self.rival(0.85, 0.1), features={**self.best.features, "pattern": 0.0})
        (doubt,) = about_take.level(self.map, [unlike, near], self.sure)
        self.assertEqual([r.words for r in doubt.remedies], ["half the tempo", "double the tempo"])
        self.assertIn("120 beats a minute", doubt.reason)

    def candidate(self, evidence):
        downs = np.arange(0, len(self.frames), 4)
        return MapCandidate(
            self.map, np.ones(len(self.frames)), self.best, bars.BarDivision(downs, 4, 1.0, {}), evidence
        )

    def test_bar_lines_without_evidence_are_doubted_and_clear_ones_are_not(self):
        clear = np.full(len(self.frames), -3.0)
        clear[::4] = 3.0
        self.assertEqual(about_take.bar_lines(self.map, self.candidate(clear)), [])
        wrong = np.roll(clear, 1)
        (doubt,) = about_take.bar_lines(self.map, self.candidate(wrong))
        self.assertEqual(doubt.remedies[0].command, Downbeat(1))
        self.assertEqual(doubt.remedies[0].words, "move every downbeat one beat later")
        self.assertEqual((doubt.start, doubt.end), (0.75, 28.75))

    def test_off_beats_whose_pattern_looks_like_beats_are_doubted_and_others_are_not(self):
        """Half-way between the beats the score is a little lower, the pattern says either."""

        def rated(_, frames):
            on = frames[0] == self.frames[0]
            return replace(self.best, score=0.0 if on else -1.0, features={"pattern": 0.0 if on else self.between})

        evidence = np.zeros(len(self.frames))
        rating = mock.patch.object(about_take, "rate", rated)
        with rating, mock.patch.object(about_take, "downbeat_evidence", lambda _, frames: np.zeros(len(frames))):
            for self.between, kinds in ((3.0, ["phase"]), (-3.0, [])):
                found = about_take.off_beat(None, self.map, self.candidate(evidence))
                self.assertEqual([d.kind for d in found], kinds)


class BarEvidence(TestCase):
    """Bars of four with 2 nats more on their first beat than elsewhere."""

    def setUp(self):
        self.evidence = np.full(160, -1.0)
        self.evidence[::4] = 1.0
        self.downs = np.arange(0, 160, 4)

    def doubted(self, downs):
        return [
            w.first
            for w in bar_evidence.windows(downs, 4, self.evidence)
            if about_take.probability(WINDOW_WEIGHTS, **w.features) > DOUBTED_WINDOW
        ]

    def test_gaps_are_differences_of_means(self):
        evidence = np.tile([3.0, 1.0, 2.0, 0.0], 5)
        gaps = bar_evidence.evidence_gaps(np.arange(0, 20, 4), np.full(5, 4), evidence)
        np.testing.assert_allclose(gaps, [2, 1, 3])
        self.assertEqual(bar_evidence.line_features(gaps), {"gap": 1.0, "next": 2.0})
        self.assertEqual(bar_evidence.line_features(gaps[:1]), {"gap": 2.0, "next": 2.0})

    def test_a_few_bars_that_sound_otherwise_are_no_doubt_among_many_clear_ones(self):
        self.evidence *= 4
        self.evidence[80:104] = np.roll(self.evidence[80:104], 2)
        self.assertEqual(self.doubted(self.downs), [])

    def test_after_an_odd_bar_on_the_wrong_beat_all_is_doubted_and_before_it_nothing(self):
        self.evidence *= 4
        wrong = np.concatenate([np.arange(0, 80, 4), np.arange(82, 160, 4)])  # a bar of two that is not there
        found = self.doubted(wrong)
        self.assertEqual(found[-1], len(wrong) - 6)
        self.assertGreater(found[0], 14)

    def test_a_run_ends_at_a_bar_of_another_length(self):
        downs = np.array([0, 4, 8, 12, 14, 18, 22, 26])
        features = [w.features for w in bar_evidence.windows(downs, 4, self.evidence[:30])]
        self.assertEqual([round(float(np.exp(f["bars"]))) for f in features], [1, 4, 4])


class BarLength(TestCase):
    """Whether bars may have another number of beats."""

    def candidate(self, scores, lengths=(4,) * 20, beats=4, ternary=False, phase=0):
        """Bars of these lengths; of two in a row the one opens with more evidence, the first where ``phase`` is 0."""
        meter = Meter(beats * 3, 8) if ternary else Meter(beats, 4)
        downs = np.cumsum([0, *lengths[:-1]])
        evidence = np.full(sum(lengths), -1.0)
        evidence[downs] = 1.0
        evidence[downs[phase::2]] = 2.0
        changes = [MeterChange(1, meter)]
        changes += [MeterChange(k, Meter(n, 4)) for k, n in enumerate(lengths, 1) if n != beats]
        tempo_map = TempoMap.from_beats(0.5 * np.arange(len(evidence)), 0, Meters(tuple(changes)))
        division = BarDivision(downs, beats, scores[beats], scores)
        hypothesis = TempoHypothesis(np.arange(0, 50 * len(evidence), 50), 120.0, 0.0, 1.0, 0.0, 0.3 * ternary, {})
        return tempo_map, MapCandidate(tempo_map, np.ones(len(evidence)), hypothesis, division, evidence)

    def doubted(self, *args, **options):
        return about_take.bar_length(*self.candidate(*args, **options))

    def test_it_is_doubted_where_another_fits_as_well(self):
        self.assertEqual(self.doubted({2: 1.0, 3: 0.0, 4: 9.0}), [])
        (doubt,) = self.doubted({2: 1.0, 3: 4.0, 4: 4.0})
        self.assertEqual(doubt.reason, "Bars of 3 beats fit about as well as bars of 4.")
        self.assertEqual([(r.words, r.command) for r in doubt.remedies], [("bars of 3/4", SetMeter(1, "3/4"))])
        self.assertFalse(is_settled(doubt, doubt.start + np.arange(4), []))
        self.assertFalse(is_settled(doubt, np.zeros(0), [Settlement("meter", 0.0, 0.0)]))
        self.assertTrue(is_settled(doubt, np.zeros(0), [Settlement("meters", 0.0, 0.0)]))

    def test_of_two_bars_that_may_be_one_the_likelier_opens_it(self):
        for phase in (0, 1):
            (doubt,) = self.doubted({2: 5.0, 3: 0.0, 4: 5.0}, (2,) * 40, 2, phase=phase)
            self.assertEqual(doubt.remedies[0].command, SetMeter(1 + phase, "4/4"))
        (doubt,) = self.doubted({2: 5.0, 4: 5.0}, (2,) * 40, 2, ternary=True)
        self.assertEqual(doubt.remedies[0].command, SetMeter(1, "12/8"))

    def test_where_the_meter_changes_only_the_question_is_asked(self):
        (doubt,) = self.doubted({3: 4.0, 4: 4.0}, (4,) * 10 + (2,) + (4,) * 10)
        self.assertEqual(doubt.remedies, [])

    def test_a_bar_that_is_no_question_is_not_doubted(self):
        self.assertEqual(self.doubted({4: 4.0}), [])
        self.assertEqual(self.doubted({3: 4.0, 4: 4.0}, (4,) * 4), [])

    def test_what_tells_of_it(self):
        _, candidate = self.candidate({2: 3.5, 3: 1.0, 4: 5.0})
        found = bar_evidence.length_features(candidate.division, candidate.evidence)
        expected = {"margin": 1.5, "bars": np.log(20), "next": 2.5, "unrelated": 0.0, "rare": 0.0}
        self.assertEqual({k: round(v, 6) for k, v in found.items()}, {k: round(v, 6) for k, v in expected.items()})
        _, candidate = self.candidate({4: 3.5, 5: 5.0}, (5,) * 10, 5)
        found = bar_evidence.length_features(candidate.division, candidate.evidence)
        self.assertEqual((found["unrelated"], found["rare"]), (1.0, 1.0))
