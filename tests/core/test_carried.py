"""A map inside audio files, read back by us and by readers that know nothing of us.

Published: ID3v2.4.0 native frames (Nilsson 2000) and its chapter addendum (Newell 2005); EBU Tech 3285 (``bext``); EBU
Tech 3306 (RF64); RFC 9639 (FLAC); RFC 3533 (Ogg). Independent readers: mutagen (for tests only), tinytag, wavinfo.
"""

import io
import json
import tempfile
from pathlib import Path
from unittest import TestCase, mock

import jsonschema
import mutagen
import numpy as np
import soundfile as sf
import wavinfo
from mutagen.id3 import APIC, ID3, TPE1, TXXX
from tinytag import TinyTag

from core.audio import chunks
from core.formats.carried import CarriedMap, CarryError, Section, carry, read_carried, riff
from core.formats.carried import id3 as our_id3
from core.formats.carried.content import to_text
from core.tempomap import Meters, TempoMap

RATE = 48_000
KINDS = {
    "wav": ("WAV", "PCM_24"),
    "flac": ("FLAC", None),
    "ogg": ("OGG", "VORBIS"),
    "opus": ("OGG", "OPUS"),
    "mp3": ("MP3", None),
}
SCHEMA = Path(__file__).parents[2] / "docs" / "map.schema.json"


def played(beats=40, seed=1):
    """A map with a pickup, odd meters, pins and tempos that no rounding keeps."""
    times = np.cumsum(np.random.default_rng(seed).uniform(0.3, 0.6, beats)) + 0.7123456789
    tempo_map = TempoMap.from_beats(times, -2, Meters.of((1, "4/4"), (4, "3/4"), (6, "2+2+3/8")))
    pins = np.zeros(len(tempo_map.seconds), dtype=bool)
    pins[[3, 9]] = True
    return tempo_map.with_points(tempo_map.seconds, tempo_map.quarters, pins)


class Carried(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.map = played()
        self.carried = CarriedMap(
            self.map, "Lanterns", (Section(1.5, 6.25, "Intro"), Section(6.25, 15.0, "Verse über allem"))
        )
        self.sound = np.random.default_rng(2).uniform(-0.4, 0.4, (RATE * 3, 2))

    def file(self, kind, **more):
        path = self.folder / f"take.{kind}"
        form, subtype = KINDS[kind]
        sf.write(path, self.sound, RATE, format=form, subtype=subtype, **more)
        return path

    def written(self, kind):
        source, target = self.file(kind), self.folder / f"with map.{kind}"
        carry(source, target, self.carried)
        return source, target

    def same(self, path):
        found = read_carried(path)
        self.assertIsNotNone(found)
        np.testing.assert_array_equal(found.map.seconds, self.map.seconds)
        np.testing.assert_array_equal(found.map.quarters, self.map.quarters)
        np.testing.assert_array_equal(found.map.pins, self.map.pins)
        self.assertEqual(found.map.meters, self.map.meters)
        self.assertEqual(found.sections, self.carried.sections)

    def test_a_map_comes_back_to_the_bit_and_the_sound_is_untouched(self):
        for kind in KINDS:
            with self.subTest(kind):
                source, target = self.written(kind)
                self.same(target)
                self.assertIsNone(read_carried(source))
                np.testing.assert_array_equal(sf.read(source)[0], sf.read(target)[0])

    def test_writing_it_again_replaces_it(self):
        for kind in KINDS:
            with self.subTest(kind):
                _, once = self.written(kind)
                twice = self.folder / f"twice.{kind}"
                carry(once, twice, self.carried)
                self.assertEqual(once.read_bytes(), twice.read_bytes())

    def test_it_survives_another_program_s_tag_editor(self):
        for kind in KINDS:
            with self.subTest(kind):
                _, target = self.written(kind)
                file = mutagen.File(target)
                if kind in ("wav", "mp3"):
                    file.tags.add(TPE1(3, ["The Slipway Three"]))
                    file.tags.delall("TIT2")
                else:
                    file.tags["artist"] = "The Slipway Three"
                file.save()
                self.same(target)
        mp3 = ID3(self.folder / "with map.mp3")
        mp3.update_to_v23()
        mp3.save(v2_version=3)
        self.same(self.folder / "with map.mp3")

    def test_the_text_keeps_to_its_published_schema(self):
        schema = json.loads(SCHEMA.read_text(encoding="utf-8"))
        jsonschema.Draft202012Validator.check_schema(schema)
        jsonschema.validate(json.loads(to_text(self.carried)), schema)
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate({"format": "diachron.map"}, schema)

    # ---- what other programs see

    def test_mutagen_reads_every_beat_to_the_millisecond(self):
        _, target = self.written("mp3")
        tag = ID3(target)
        beats = self.map.beats()
        codes = our_id3.beats_of(bytes([tag["SYTC"].format]) + tag["SYTC"].data)
        np.testing.assert_allclose([t for t, _ in codes[:-1]], beats.seconds, atol=0.000501)
        np.testing.assert_allclose([b for _, b in codes[:-2]], 60 / np.diff(beats.seconds), atol=0.501)
        self.assertEqual(codes[-1][1], 0)  # no beats from there on
        self.assertEqual(str(tag["TBPM"]), f"{self.carried.map.median_bpm:.0f}")

    def test_a_fast_tempo_takes_two_bytes(self):
        """Native frames, 4.7: a first byte of 255 has the next one added to it; up to 510."""
        quick = CarriedMap(TempoMap.steady(300, bars=3))
        _, target = self.file("mp3"), self.folder / "quick.mp3"
        carry(self.folder / "take.mp3", target, quick)
        data = ID3(target)["SYTC"].data
        self.assertEqual(data[:6], bytes([0xFF, 300 - 0xFF, 0, 0, 0, 0]))

    def test_sections_are_chapters(self):
        for kind in ("mp3", "wav"):
            tags = mutagen.File(self.written(kind)[1]).tags
            chapters = sorted(tags.getall("CHAP"), key=lambda c: c.start_time)
            self.assertEqual([(c.start_time, c.end_time) for c in chapters], [(1500, 6250), (6250, 15000)])
            self.assertEqual([str(c.sub_frames["TIT2"]) for c in chapters], ["Intro", "Verse über allem"])
            self.assertEqual(tags.getall("CTOC")[0].child_element_ids, [c.element_id for c in chapters])
        events = tags["ETCO"].events
        self.assertEqual(events[:2], [(0x02, 1500), (0x06, 6250)])  # intro start, verse start
        self.assertIn(0x0C, [kind for kind, _ in events])  # a change of meter
        flac = mutagen.File(self.written("flac")[1])
        self.assertEqual((flac["CHAPTER001"], flac["CHAPTER002NAME"]), (["00:00:01.500"], ["Verse über allem"]))

    def test_tinytag_reads_the_title_and_our_text(self):
        for kind in KINDS:
            with self.subTest(kind):
                tag = TinyTag.get(self.written(kind)[1])
                self.assertEqual(tag.title, "Lanterns")
                self.assertEqual(json.loads(tag.as_dict()["diachron_map"][0])["version"], 1)

    def test_wavinfo_reads_bars_sections_and_the_broadcast_chunk(self):
        info = wavinfo.WavInfoReader(str(self.written("wav")[1]))
        first, last = self.map.bar_range
        lines = [round(float(t) * RATE) for t in self.map.bar_seconds(range(first, last + 2))]
        found = {}
        for cue in info.cues.each_cue():
            label, _ = info.cues.label_and_note(cue[0])
            found.setdefault(label, cue[1])
        expected = {f"Bar {first + k}": at for k, at in enumerate(lines) if at >= 0}
        self.assertEqual({k: v for k, v in found.items() if k.startswith("Bar")}, expected)
        self.assertEqual(found["Verse über allem"], round(6.25 * RATE))
        number = next(n for n, _ in info.cues.each_cue() if info.cues.label_and_note(n)[0] == "Intro")
        self.assertEqual(info.cues.range(number), round(4.75 * RATE))
        self.assertEqual((info.bext.version, info.bext.time_reference), (2, 0))
        self.assertEqual((info.bext.description, info.bext.originator), ("Lanterns", "Diachron"))

    # ---- what is there already stays

    def test_tags_of_others_stay(self):
        path = self.file("mp3")
        for version in (3, 4):
            tag = ID3()
            tag.add(TPE1(3, ["Ødegård"]))
            tag.add(APIC(3, "image/png", 3, "cover", b"\x89PNG" + bytes(range(256)) * 9))
            tag.add(TXXX(3, "mood", ["calm"]))
            tag.save(path, v2_version=version)
            target = self.folder / "kept.mp3"
            carry(path, target, self.carried)
            kept = ID3(target)
            self.assertEqual(kept.version[1] if version == 4 else 3, version)
            self.assertEqual(str(kept["TPE1"]), "Ødegård")
            self.assertEqual(kept["APIC:cover"].data, tag["APIC:cover"].data)
            self.assertEqual(str(kept["TXXX:mood"]), "calm")
            self.same(target)

    def test_cue_points_and_times_of_others_stay(self):
        path = self.file("wav")
        with path.open("r+b") as file:
            data = bytearray(file.read())
            label = chunks.packed(b"labl", (7).to_bytes(4, "little") + b"slate\0")
            cue = chunks.cue_points([(7, 4242)])
            bext = bytearray(riff._bext("Reel 2"))
            bext[338:346] = (12_345_678).to_bytes(8, "little")
            data += chunks.packed(b"bext", bytes(bext)) + cue + chunks.packed(b"LIST", b"adtl" + label)
            data[4:8] = (len(data) - 8).to_bytes(4, "little")
            file.seek(0)
            file.write(data)
        target = self.folder / "kept.wav"
        carry(path, target, self.carried)
        info = wavinfo.WavInfoReader(str(target))
        self.assertIn((7, 4242), list(info.cues.each_cue()))
        self.assertEqual(info.cues.label_and_note(7)[0], "slate")
        self.assertEqual((info.bext.description, info.bext.time_reference), ("Reel 2", 12_345_678))
        with target.open("rb") as file:
            self.assertEqual(riff.time_reference(riff.opened(file)), 12_345_678)

    def test_a_file_beyond_four_gigabytes_is_written_as_rf64(self):
        """EBU Tech 3306: sizes of 32 bits are all ones, the true ones stand in ``ds64``. The bound is lowered here."""
        path, target = self.file("wav"), self.folder / "large.wav"
        with mock.patch.object(riff, "_LARGEST_RIFF", 1000):
            carry(path, target, self.carried)
        self.assertEqual(target.read_bytes()[:8], b"RF64\xff\xff\xff\xff")
        self.assertEqual(sf.info(target).format, "RF64")
        np.testing.assert_array_equal(sf.read(path)[0], sf.read(target)[0])
        self.same(target)
        back = self.folder / "small again.wav"
        carry(target, back, self.carried)
        self.assertEqual(back.read_bytes()[:4], b"RIFF")
        np.testing.assert_array_equal(sf.read(path)[0], sf.read(back)[0])

    # ---- what cannot be done

    def test_a_recording_is_never_changed(self):
        path = self.file("wav")
        before = path.read_bytes()
        with self.assertRaisesRegex(CarryError, "never changed"):
            carry(path, path, self.carried)
        self.assertEqual(path.read_bytes(), before)

    def test_what_is_no_audio_is_refused_and_nothing_is_left(self):
        path = self.folder / "notes.txt"
        path.write_text("four bars of nothing")
        with self.assertRaisesRegex(CarryError, "WAV, FLAC, Ogg and MP3"):
            carry(path, self.folder / "out.txt", self.carried)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["notes.txt"])

    def test_a_newer_map_says_so(self):
        newer = to_text(self.carried).replace('"version":1', '"version":2')
        with mock.patch.object(our_id3, "to_text", lambda _: newer):
            carry(self.file("mp3"), self.folder / "newer.mp3", self.carried)
        with self.assertRaisesRegex(CarryError, "newer"):
            read_carried(self.folder / "newer.mp3")

    def test_damaged_files_end_with_a_sentence_or_a_map(self):
        rng = np.random.default_rng(3)
        for kind in KINDS:
            good = self.written(kind)[1].read_bytes()
            heads = good[:4000] + good[-9000:] if kind == "wav" else good[:9000]
            for _ in range(60):
                bad = bytearray(heads)
                for _ in range(int(rng.integers(1, 12))):
                    bad[int(rng.integers(len(bad)))] = int(rng.integers(256))
                path = self.folder / f"bad.{kind}"
                path.write_bytes(bytes(bad[: int(rng.integers(1, len(bad)))] if rng.random() < 0.3 else bad))
                try:
                    found = read_carried(path)
                    self.assertTrue(found is None or len(found.map.seconds) > 1)
                    carry(path, self.folder / f"again.{kind}", self.carried)
                except CarryError as e:
                    self.assertTrue(str(e).endswith("."))


class Checksum(TestCase):
    def test_ogg_pages_of_libogg_have_the_checksum_that_is_computed_here(self):
        from core.formats.carried import vorbis_comment

        out = io.BytesIO()
        sf.write(out, np.random.default_rng(4).uniform(-0.5, 0.5, 48_000), 48_000, format="OGG", subtype="VORBIS")
        written = out.getvalue()
        out.seek(0)
        pages = []
        while page := vorbis_comment._read_page(out):
            pages.append(page.packed())
        self.assertGreater(len(pages), 3)
        self.assertEqual(b"".join(pages), written)
