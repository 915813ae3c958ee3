"""From what is wanted to files: plans, groups, engines that suit, hushes, what it costs, the command line."""

import contextlib
import io
from dataclasses import replace

import numpy as np
import soundfile as sf
from django.test import SimpleTestCase

from core.audio import AudioError
from core.cli import main
from core.formats import smf
from core.formats.song import read_map
from core.listening.attacks import Attacks
from core.listening.track import analyse_track
from core.reshaping.choice import attacks_to_keep, suggest_engine
from core.reshaping.cost import cost
from core.reshaping.groups import suggest_groups
from core.reshaping.hushing import Hushed
from core.reshaping.plan import AttackMove, ConformTo, Hush, Reshaping, Tightening, plan
from core.reshaping.rendering import pieces, rendered
from core.reshaping.sources import ArraySource, FileSource, Together
from core.reshaping.tighten import Tighten
from core.reshaping.warp import Warp
from core.reshaping.writing import GroupToWrite, TrackToWrite, write_groups
from core.tempomap import Meters, TempoMap
from core.tempomap.note_grid import Grid
from tests.core.test_engines import RATE, strokes, tone
from tests.core.test_listening import Folder

MAP = TempoMap.from_beats(0.5 + 0.6 * np.arange(17) + 0.01 * np.sin(np.arange(17)))
ON = MAP.beats().seconds


def struck(at):
    return Attacks(np.asarray(at, dtype=float), np.ones(len(at)), np.ones(len(at)))


#: A close microphone 10 ms late on every other beat, a second one 3 ms farther, and a player of its own.
CLOSE, FAR, OTHER = (ON + late for late in (0.01 * (np.arange(17) % 2), 0.01 * (np.arange(17) % 2) + 0.003, 0.0))
TAKE = {1: struck(CLOSE), 2: struck(FAR), 3: struck(OTHER)}
WHOLE = Tighten(0.4, 10.5, "grid", Grid(1.0), 1.0)


class Plans(SimpleTestCase):
    def test_microphones_of_one_instrument_keep_their_distance(self):
        made = plan(Reshaping((Tightening(1, (1,), WHOLE),), groups=((1, 2),)), MAP, TAKE)
        np.testing.assert_allclose(made.warps[1].to_target(CLOSE), ON, atol=1e-9)
        moved = made.warps[2].to_target(FAR)
        np.testing.assert_allclose(moved - ON, 0.003, atol=2e-4)
        np.testing.assert_array_equal(made.warps[3].to_target(OTHER), OTHER)

    def test_conforming_comes_after_tightening(self):
        wanted = Reshaping((Tightening(1, (1,), WHOLE),), conform=ConformTo("tempo", bpm=120))
        made = plan(wanted, MAP, TAKE)
        np.testing.assert_allclose(np.diff(made.warps[1].to_target(CLOSE)), 0.5, atol=1e-9)
        np.testing.assert_allclose(np.diff(made.map.beats().seconds), 0.5, atol=1e-9)

    def test_toward_a_track_that_was_tightened_itself(self):
        loose = struck(ON + 0.02)
        how = Tighten(0.4, 10.5, "track", None, 1.0)
        wanted = Reshaping((Tightening(1, (1,), WHOLE), Tightening(2, (4,), how, other=1)))
        made = plan(wanted, MAP, {**TAKE, 4: loose})
        np.testing.assert_allclose(made.warps[4].to_target(loose.seconds), ON, atol=1e-9)

    def test_one_attack(self):
        made = plan(Reshaping(attack_moves=(AttackMove(1, (1,), float(CLOSE[5]), float(ON[5])),)), MAP, TAKE)
        np.testing.assert_allclose(made.warps[1].to_target(CLOSE[5]), ON[5])
        rest = np.delete(CLOSE, 5)
        np.testing.assert_array_equal(made.warps[1].to_target(rest), rest)

    def test_a_track_that_is_gone_is_passed_over(self):
        made = plan(Reshaping((Tightening(1, (9,), WHOLE),)), MAP, TAKE)
        self.assertEqual(made.moves, {})


class Choice(Folder):
    def track(self, name, samples):
        path = self.folder / f"{name}.wav"
        sf.write(path, samples, RATE)
        return analyse_track(path, name)

    def test_strokes_are_cut_and_pads_are_tonal(self):
        at = np.arange(0.5, 9.6, 0.5)
        rng = np.random.default_rng(0)
        slow = np.repeat(np.clip(np.sin(np.arange(10 * RATE // 480) / 60), 0.2, 1), 480)[: 10 * RATE, None]
        pad = sum(tone(hz) for hz in (220, 261.6, 329.6, 392, 466.2, 554.4)) / 4 * slow
        drums, pads = self.track("drums", strokes(at)), self.track("pad", pad + 1e-4 * rng.standard_normal(pad.shape))
        self.assertEqual(suggest_engine([drums]).engine, "cut")
        self.assertEqual(suggest_engine([pads]).engine, "tonal")
        self.assertEqual(suggest_engine([replace(pads, name="Toms")]).engine, "cut")
        # strokes that hardly rise above a dense mix are strokes
        often = Attacks(np.arange(0.5, 9.5, 0.5), np.ones(18), np.ones(18))
        self.assertEqual(suggest_engine([replace(pads, attacks=often)]).engine, "blend")
        # of several microphones the one with the strokes decides
        self.assertEqual(suggest_engine([pads, drums]).engine, "cut")

    def test_microphones_are_grouped_by_name_where_the_sound_agrees(self):
        at = np.arange(0.5, 9.6, 0.5)
        kit = [self.track("Kick", strokes(at)), self.track("Snare top", strokes(at, seed=3))]
        other = self.track("Snare 2", strokes(at + 0.23 + 0.1 * np.sin(np.arange(len(at))), seed=4))
        guitar = self.track("Guitar", strokes(at, seed=5) * 0.3 + strokes(at + 0.25, seed=6) * 0.3)
        self.assertEqual(suggest_groups([*kit, guitar, other]), [[0, 1]])

    def test_only_sharp_attacks_break_a_tone(self):
        some = Attacks(np.array([1.0, 2.0, 2.005]), np.array([1.0, 0.9, 0.8]), np.array([0.9, 0.1, 0.9]))
        np.testing.assert_array_equal(attacks_to_keep([some], "tonal"), [1.0, 2.005])
        np.testing.assert_array_equal(attacks_to_keep([some, some], "voice"), [1.0, 2.0])


class Costs(SimpleTestCase):
    def test_the_worst_place_comes_first(self):
        warp = Warp([0.0, 4.0, 8.0], [0.0, 6.0, 9.6])
        found = cost(warp, np.array([1.0, 5.0]), 10.0)
        self.assertAlmostEqual(found.largest, 1.5)
        self.assertEqual((found.worst[0].start, found.worst[0].end), (0.0, 4.0))
        self.assertTrue(found.worst[0].warns)
        self.assertFalse(found.worst[1].warns)
        self.assertEqual(found.moved, 2)
        self.assertEqual(cost(warp, np.array([1.0, 5.0]), 10.0, around=warp).moved, 0)

    def test_nothing_wanted_costs_nothing(self):
        found = cost(Warp.identity(), np.arange(5.0), 10.0)
        self.assertEqual((found.largest, found.moved), (1.0, 0))


class Sources(Folder):
    def test_a_hush_fades_and_leaves_the_rest(self):
        x = tone(300, 3)
        hushed = Hushed(ArraySource(x, RATE), [Hush(1, 1, 1.0, 2.0, -6.0, 0.1)])
        y = np.concatenate([hushed.read(a, a + 10_000) for a in range(0, len(x), 10_000)])[: len(x)]
        np.testing.assert_array_equal(y[:RATE], x[:RATE])
        np.testing.assert_array_equal(y[2 * RATE :], x[2 * RATE :])
        middle = slice(round(1.2 * RATE), round(1.8 * RATE))
        np.testing.assert_allclose(y[middle], x[middle] * 10 ** (-6 / 20), atol=1e-6)
        self.assertLess(np.abs(np.diff(y[:, 0])).max(), 1.2 * np.abs(np.diff(x[:, 0])).max())

    def test_a_file_is_read_in_windows_as_it_is(self):
        x = strokes(np.arange(0.5, 9, 0.4))
        sf.write(self.folder / "x.wav", x, RATE, subtype="FLOAT")
        source = FileSource(self.folder / "x.wav")
        for a, b in ((-500, 700), (100_000, 300_000), (90_000, 95_000), (470_000, 490_000)):
            want = ArraySource(x, RATE).read(a, b)
            np.testing.assert_array_equal(source.read(a, b), want)

    def test_different_rates_cannot_move_as_one(self):
        with self.assertRaises(AudioError):
            Together([ArraySource(tone(300, 1), 48_000), ArraySource(tone(300, 1), 44_100)])

    def test_long_pieces_are_cut_at_attacks_and_the_rest_is_covered(self):
        warp = Warp([0.0, 60.0], [0.0, 66.0])
        at = np.arange(0.4, 60, 0.8)
        found = [p for p in pieces(warp, RATE, at, 0, 66 * RATE) if p.moves]
        self.assertGreater(len(found), 5)
        for a, b in zip(found, found[1:], strict=False):
            self.assertEqual(a.stop, b.start)
            self.assertLess(np.abs(at - (b.source[0] / RATE + 0.003)).min(), 1e-4)
        self.assertLess(max(p.stop - p.start for p in found), 6 * RATE)

    def test_without_attacks_a_tone_goes_on_over_the_cuts(self):
        x = tone(440, 30)
        y = np.concatenate(list(rendered(ArraySource(x, RATE), Warp([0, 30], [0, 33]), "tonal", np.zeros(0))))
        loud = np.sqrt((y[RATE : 32 * RATE].reshape(-1, RATE // 20) ** 2).mean(axis=1))
        self.assertGreater(loud.min() / np.median(loud), 0.5)

    def test_files_are_written_of_one_length_and_stop_when_told(self):
        for name, seconds in (("a", 4), ("b", 6)):
            sf.write(self.folder / f"{name}.wav", strokes([0.5, 1.5], seconds), RATE)
        groups = [
            GroupToWrite(
                (TrackToWrite(self.folder / f"{n}.wav", self.folder / f"{n} new.wav"),),
                Warp([0, 6], [0, 7]),
                "cut",
                np.array([0.5, 1.5]),
            )
            for n in "ab"
        ]
        told = []
        self.assertAlmostEqual(write_groups(groups, "24", told.append, threads=2), 7, 4)
        self.assertEqual({sf.info(self.folder / f"{n} new.wav").frames for n in "ab"}, {7 * RATE})
        self.assertEqual(told[-1], 1.0)

        class Enough(Exception):
            pass

        def stop(_share):
            raise Enough

        with self.assertRaises(Enough):
            write_groups(groups, "float", stop)


class CommandLine(Folder):
    def run_it(self, *args):
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main([str(a) for a in args])
        return code, out.getvalue(), err.getvalue()

    def test_a_take_goes_to_a_typed_tempo(self):
        beats = 1 + np.cumsum(0.5 + 0.01 * np.sin(np.arange(32) / 3))
        sf.write(self.folder / "kick.wav", strokes(beats, beats[-1] + 1), RATE)
        sf.write(self.folder / "room.wav", strokes(beats + 0.012, beats[-1] + 1, seed=2) * 0.3, RATE)
        smf.write(TempoMap.from_beats(beats), "Map").file.save(self.folder / "own.mid")
        out = self.folder / "new"
        code, words, trouble = self.run_it(
            "conform",
            self.folder / "kick.wav",
            self.folder / "room.wav",
            "--to",
            110,
            "--from-map",
            self.folder / "own.mid",
            "--no-cache",
            "-o",
            out,
        )
        self.assertEqual((code, trouble), (0, ""))
        self.assertIn("now 110.000", words)
        self.assertEqual(
            sorted(p.name for p in out.iterdir()), ["as played.mid", "conformed.mid", "kick.wav", "room.wav"]
        )
        x, rate = sf.read(out / "kick.wav")
        loud = np.flatnonzero(np.abs(np.diff(x, prepend=0)) > 0.3)
        begins = loud[np.diff(loud, prepend=-RATE) > 0.1 * RATE] / rate
        np.testing.assert_allclose(np.diff(begins), 60 / 110, atol=0.001)

    def test_recordings_are_never_written_over(self):
        sf.write(self.folder / "kick.wav", strokes([0.5, 1.0]), RATE)
        code, _, trouble = self.run_it("conform", self.folder / "kick.wav", "-o", self.folder)
        self.assertEqual(code, 2)
        self.assertIn("never written over", trouble)

    def test_a_map_without_notes_is_read_back(self):
        played = TempoMap.from_beats(2 + np.cumsum(0.5 + 0.02 * np.sin(np.arange(40))), 0, Meters.of((1, "3/4")))
        smf.write(played, "Map").file.save(self.folder / "map.mid")
        found = read_map(self.folder / "map.mid")
        lines = played.bar_seconds(np.arange(1, 12))
        mine = found.bar_seconds(np.arange(*found.bar_range))
        self.assertLess(max(np.abs(mine - t).min() for t in lines), 1e-4)
