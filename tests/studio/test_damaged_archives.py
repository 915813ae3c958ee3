"""Archives that are damaged or wrong end with a sentence."""

import io
import json
import zipfile
import zlib
from unittest import mock

import numpy as np

from studio.archives import reading, rows
from studio.archives.reading import NoArchive
from studio.library.models import Session
from tests.studio import test_archives


class Damaged(test_archives.Archives):
    def refused(self, path, words):
        made = Session.objects.create(title="empty")
        counts = [m._base_manager.count() for m in rows.models_of_session()]
        with self.assertRaisesRegex(NoArchive, words):
            reading.read(path, made)
        self.assertEqual([m._base_manager.count() for m in rows.models_of_session()], counts)
        self.assertEqual([p.name for p in made.folder.iterdir()], [])

    def test_a_changed_byte_of_a_recording_is_noticed(self):
        path = self.archived()
        data = bytearray(path.read_bytes())
        at = data.index(self.kick.source.read_bytes()[2000:2040])
        data[at] ^= 1
        path.write_bytes(data)
        self.refused(path, "damaged")
        with self.assertRaises(NoArchive):
            reading.verify(path)

    def test_what_is_no_archive_of_a_session(self):
        path = self.folder / "x.zip"
        path.write_bytes(b"PK nothing")
        self.refused(path, "no archive")
        self.refused(self.again(lambda f, m: m.update(format="other")), "no archive")
        self.refused(self.again(lambda f, m: m["recordings"][0].update(file="../../etc/passwd")), "no archive|damaged")

    def test_rows_that_do_not_fit_together(self):
        for wrong in (
            lambda d: d["library.session"].clear(),
            lambda d: d["library.track"][0].pop("digest"),
            lambda d: d["desk.mapstep"][0].update(content="{"),
            lambda d: d["desk.mark"][0].update(start="soon"),
            lambda d: d["parts.partstep"][0].update(part_id=10**9),
            lambda d: d.update({"library.track": 5}),
        ):

            def change(files, manifest, wrong=wrong):
                data = json.loads(files["rows.json"])
                wrong(data)
                files["rows.json"] = json.dumps(data).encode()

            self.refused(self.again(change), "session")

    def test_random_damage_ends_with_a_sentence_or_a_session(self):
        good = self.archived().read_bytes()
        rng = np.random.default_rng(3)
        path = self.folder / "bad.zip"
        for _ in range(40):
            bad = bytearray(good)
            for _ in range(int(rng.integers(1, 30))):
                bad[int(rng.integers(len(bad)))] = int(rng.integers(256))
            path.write_bytes(bytes(bad[: int(rng.integers(1, len(bad)))]) if rng.random() < 0.3 else bytes(bad))
            made = Session.objects.create(title="empty")
            try:
                reading.read(path, made)
            except NoArchive as e:
                self.assertTrue(str(e).endswith("."), e)

    def test_rows_that_cannot_be_unpacked_end_with_a_sentence(self):
        """Damage in the middle of packed data is found by the decompressor, before any checksum."""
        good, kinds = self.archived().read_bytes(), set()
        path = self.folder / "bad.zip"
        with zipfile.ZipFile(io.BytesIO(good)) as z:
            info = z.getinfo("rows.json")
        for k in range(60, min(info.compress_size, 1000), 40):
            bad = bytearray(good)
            bad[info.header_offset + k : info.header_offset + k + 8] = b"\xff" * 8
            path.write_bytes(bytes(bad))
            try:
                zipfile.ZipFile(path).read("rows.json")
            except Exception as e:
                kinds.add(type(e))
            self.refused(path, "cannot be read.")
        self.assertIn(zlib.error, kinds)

    def test_a_full_disk_is_told(self):
        path = self.archived()
        with mock.patch.object(reading.shutil, "disk_usage", return_value=mock.Mock(free=reading._RESERVE + 10)):
            self.refused(path, "the disk has 0 MB left")
