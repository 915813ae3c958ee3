"""Handing over in the real page: a bundle is made and fetched, a file comes, an error stays on the page."""

import base64
import io
import tempfile
import zipfile
from pathlib import Path
from unittest import TestCase

import mido
import numpy as np
import soundfile as sf

from core.formats.carried import read_carried
from tests.browser.studio import Browser, Studio, quiet, settled


class Delivery(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        cls.folder = Path(cls.temporary.name)
        cls.studio = Studio(cls.folder, demo=True).start()
        cls.browser = Browser()
        cls.page = cls.browser.page()
        cls.page.goto(f"{cls.studio.url}/sessions/1/desk")
        settled(cls.page)
        cls.page.get_by_role("tab", name="Deliver").click()
        cls.page.get_by_role("tab", name="Bundles", exact=True).wait_for()
        quiet(cls.page)

    @classmethod
    def tearDownClass(cls):
        cls.browser.close()
        cls.studio.stop()
        cls.temporary.cleanup()

    def tearDown(self):
        self.assertEqual(self.browser.errors, [])

    def saved(self, download):
        path = self.folder / download.value.suggested_filename
        download.value.save_as(path)
        return path

    def pane(self, name):
        self.page.locator("#panel").get_by_role("tab", name=name, exact=True).click()

    def test_a_bundle_is_made_and_fetched_and_its_recordings_carry_the_map(self):
        page = self.page
        self.pane("Bundles")
        bundle = page.locator("form.bundle", has_text="For the archive")
        bundle.get_by_text("files, some").click()
        told = bundle.locator("li").all_inner_texts()
        bundle.get_by_role("button", name="Make the bundle").click()
        link = bundle.get_by_role("link", name="Get the ZIP")
        link.wait_for()
        with page.expect_download() as download:
            link.click()
        path = self.saved(download)
        self.assertRegex(path.name, r"bars 1-\d+, \d+ bpm, for the archive\.zip$")
        with zipfile.ZipFile(path) as archive:
            self.assertEqual(sorted(archive.namelist()), sorted(told))
            recording = next(n for n in archive.namelist() if n.startswith("recordings/"))
            carried = read_carried(Path(archive.extract(recording, self.folder)))
        times = page.evaluate("desk.grid.time")
        np.testing.assert_allclose(carried.map.beats().seconds[: len(times)], times, atol=1e-6)

    def test_a_session_is_archived_and_opens_as_it_was_on_the_page_of_all_sessions(self):
        page = self.page
        page.goto(f"{self.studio.url}/sessions/2/desk")
        settled(page)
        page.get_by_role("tab", name="Deliver").click()
        whole = page.locator("#archive form")
        whole.get_by_role("button", name="Archive the session").click()
        with page.expect_download() as download:
            whole.get_by_role("link", name="Get the ZIP").click()
        path = self.saved(download)
        facts = "[desk.grid.time, desk.grid.bar, desk.facts.tracks.map((t) => t.name), document.title]"
        before = page.evaluate(facts)
        page.goto(self.studio.url)
        settled(page)
        page.locator("#choose").set_input_files(path)
        page.wait_for_url("**/sessions/*/desk")
        page.wait_for_function("globalThis.desk?.step && desk.facts.tracks.every((t) => t.analysed)")
        self.assertNotIn("/sessions/2/", page.url)
        page.reload()
        settled(page)
        self.assertEqual(page.evaluate(facts), before)
        page.goto(f"{self.studio.url}/sessions/1/desk")
        settled(page)
        page.get_by_role("tab", name="Deliver").click()
        page.get_by_role("tab", name="Bundles", exact=True).wait_for()

    def test_each_folder_of_a_drop_is_a_session(self):
        page = self.page
        page.goto(self.studio.url)
        settled(page)
        drop = """async ([names, sound]) => {
          const bytes = Uint8Array.from(atob(sound), (c) => c.charCodeAt(0));
          const file = (name, k) => ({ isFile: true, file: (ok) => ok(new File([bytes, new Uint8Array(k)], name)) });
          const folder = (name, k) => {
            const left = [[file(`${name} kick.wav`, 2 * k + 2), file(".hidden", 0)], []];
            return { isDirectory: true, name, createReader: () => ({ readEntries: (ok) => ok(left.shift()) }) };
          };
          const items = names.map((name, k) => ({ webkitGetAsEntry: () => folder(name, k) }));
          const event = new Event("drop", { cancelable: true });
          Object.assign(event, { dataTransfer: { types: ["Files"], items, files: [] } });
          dispatchEvent(event);
        }"""
        sound = io.BytesIO()
        sf.write(sound, np.random.default_rng(1).uniform(-0.1, 0.1, 48_000), 48_000, format="WAV")
        page.evaluate("globalThis.stays = true")
        page.evaluate(
            drop, [["Monday at the quay", "Tuesday in the loft"], base64.b64encode(sound.getvalue()).decode()]
        )
        page.wait_for_function("!globalThis.stays")  # with several sessions the list is shown again
        settled(page)
        titles = page.locator(".title").all_inner_texts()
        self.assertIn("Monday at the quay", titles)
        self.assertIn("Tuesday in the loft", titles)
        page.goto(f"{self.studio.url}/sessions/1/desk")
        settled(page)
        page.get_by_role("tab", name="Deliver").click()
        page.get_by_role("tab", name="Bundles", exact=True).wait_for()

    def test_a_file_comes_under_its_name(self):
        self.pane("Files")
        with self.page.expect_download() as download:
            self.page.get_by_role("link", name="The same with a marker a bar").click()
        path = self.saved(download)
        self.assertTrue(path.name.endswith("map with bars.mid"), path.name)
        self.assertGreater(len([m for m in mido.MidiFile(path).tracks[0] if m.type == "marker"]), 25)

    def test_what_cannot_be_cut_is_told_and_the_page_stays(self):
        page = self.page
        self.pane("Loop")
        page.get_by_label("Last bar of the loop").fill("9999")
        page.get_by_role("button", name="Cut").click()
        page.locator("#notes").get_by_text("The map has bars").wait_for()
        page.get_by_label("Last bar of the loop").fill("2")
        with page.expect_download() as download:
            page.get_by_role("button", name="Cut").click()
        self.assertTrue(self.saved(download).name.endswith("bars 1-2.wav"))
