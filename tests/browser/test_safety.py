"""The page and a server that is away, killed, or has lost a file."""

import json
import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile as sf

from core.listening.roles import ROLES
from tests.browser.studio import INPUT_IS_OPEN, NEW_SESSION, Browser, Studio, load_anew, quiet, settled, until


class Safety(TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        cls.studio = Studio(cls.folder, demo=True).start()
        cls.addClassCleanup(cls.studio.stop)
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)

    def setUp(self):
        self.page = self.browser.kept()
        load_anew(self.page, f"{self.studio.url}/sessions/3/desk")
        settled(self.page)

    def answer_once(self, pattern, **answer):
        self.page.route(pattern, lambda route: route.fulfill(**answer), times=1)

    def test_levels_turned_while_the_server_is_away_arrive_when_it_is_back(self):
        page = self.page
        self.studio.kill()
        level = page.get_by_label("Level of Double bass")
        level.evaluate(
            "(e) => { e.value = -12; e.dispatchEvent(new Event('input')); e.dispatchEvent(new Event('change')); }"
        )
        page.get_by_label("Mute Squeezebox").click()
        page.wait_for_function("document.body.dataset.unsent === '2'")
        page.get_by_text("What you change is kept here").wait_for()
        # turned again meanwhile: the last value counts
        level.evaluate(
            "(e) => { e.value = -20; e.dispatchEvent(new Event('input')); e.dispatchEvent(new Event('change')); }"
        )
        self.studio.start()
        page.wait_for_function("document.body.dataset.unsent === '0'")
        facts = page.evaluate("fetch(`/sessions/3/facts`).then((a) => a.json())")
        tracks = {t["name"]: t for t in facts["tracks"]}
        self.assertEqual(tracks["Double bass"]["gain"], -20)
        self.assertTrue(tracks["Squeezebox"]["muted"])
        page.get_by_text("What you change is kept here").wait_for(state="detached")

    def test_an_upload_goes_on_after_the_server_was_killed_in_the_middle(self):
        page = self.page
        noise = np.random.default_rng(1).uniform(-0.3, 0.3, (48_000 * 90, 2))
        file = self.folder / "long take.wav"
        sf.write(file, noise, 48_000, "PCM_24")  # 26 MB: seven parts
        page.get_by_role("tab", name="Gather").click()
        page.locator("input[type=file]").first.set_input_files(file)
        page.wait_for_function("document.querySelector('.uploading progress')?.value > 0.1")
        self.studio.kill()
        self.studio.start()
        page.wait_for_function("desk.facts.tracks.some((t) => t.name === 'long take')")
        track = page.evaluate("desk.facts.tracks.find((t) => t.name === 'long take').id")
        source = self.folder / "sessions" / "3" / str(track) / "source.wav"
        self.assertTrue(source.read_bytes() == file.read_bytes())  # no need to print them

    def held_at_the_second_file(self, choose):
        """Three files are dropped, of which the second stays on its way; the line that tells of it."""
        page, pieces = self.page, []
        files = [self.folder / f"{name}.wav" for name in ("one", "two", "three")]
        for seed, path in enumerate(files):
            sf.write(path, np.random.default_rng(seed).uniform(-0.3, 0.3, 44_100), 44_100)
        page.route(
            "**/uploads/*?offset=0", lambda route: pieces.append(route) or (len(pieces) > 1 or route.continue_())
        )
        self.addCleanup(page.unroute_all)
        page.locator(choose).first.set_input_files(files)
        while len(pieces) < 2:
            page.wait_for_timeout(20)
        return page.locator(".uploading")

    def test_files_on_their_way_are_cancelled_and_those_that_came_in_stay(self):
        page = self.page
        page.goto(self.studio.url)
        page.wait_for_selector("body[data-ready=yes]")
        rows = page.locator("#list tbody tr")
        before = rows.count()
        line = self.held_at_the_second_file("#choose")
        self.assertIn("two.wav (2 of 3)", line.inner_text())
        self.assertGreater(page.locator(".drop-area p").bounding_box()["width"], 400)  # not pushed aside
        line.get_by_role("button", name="Cancel").click()
        page.locator("#notes").get_by_text("Cancelled: 1 of 3 files came in.").wait_for()
        until(page, f"document.querySelectorAll('#list tbody tr').length === {before + 1}")
        page.unroute_all()
        # cancelled before anything came in, and dropped again: the page goes on as if nothing had been
        page.route("**/uploads/*?offset=0", lambda route: None)
        page.locator("#choose").set_input_files(self.folder / "one.wav")
        page.locator(".uploading").get_by_role("button", name="Cancel").click()
        page.locator("#notes").get_by_text("Cancelled: 0 of 1 file came in.").wait_for()
        page.unroute_all()
        self.assertEqual(rows.count(), before + 1)
        page.locator("#choose").set_input_files(self.folder / "one.wav")
        page.wait_for_url("**/desk*")
        page.goto(self.studio.url)
        page.wait_for_selector("body[data-ready=yes]")
        # the same on the desk, of a session that has no track yet
        page.locator("#record-take").click()
        page.wait_for_url("**/desk*")
        settled(page)
        line = self.held_at_the_second_file("input[type=file]")
        cancel = line.get_by_role("button", name="Cancel").bounding_box()
        self.assertLess(cancel["x"] + cancel["width"], page.locator(".undo-redo").bounding_box()["x"])
        line.get_by_role("button", name="Cancel").click()
        page.wait_for_function("globalThis.desk?.facts.tracks.length === 1 && !document.querySelector('.uploading')")
        self.assertEqual(page.evaluate("desk.facts.tracks[0].name"), "one")
        self.assertIsNone(page.evaluate("desk.step"))  # half of the tracks are not what the beats are to be found in

    def test_files_for_an_empty_session_all_arrive_and_what_cannot_is_told_on_the_page_that_follows(self):
        page, held = self.page, []
        page.goto(self.studio.url)
        page.locator("#record-take").click()
        page.wait_for_url("**/desk*")
        settled(page)
        files = [self.folder / name for name in ("first.wav", "nothing.wav", "second.wav")]
        for seed, path in enumerate(files):
            sf.write(path, np.random.default_rng(seed).uniform(-0.3, 0.3, 44_100 * 2), 44_100)
        files[1].write_bytes(b"no sound at all")

        def hold(route):
            held.append(route) if "second.wav" in route.request.post_data else route.continue_()

        page.route("**/uploads", hold)
        self.addCleanup(page.unroute_all)
        page.locator("input[type=file]").first.set_input_files(files)
        while not held:
            page.wait_for_timeout(20)
        # the first track has another rate than the page, which loads itself again for it, but not yet
        with page.expect_response("**/facts"):
            page.evaluate("desk.news.look()")
        held[0].continue_()
        page.wait_for_function("globalThis.desk?.facts.tracks.length === 2")
        page.locator("#notes").get_by_text("“nothing.wav” is not audio").wait_for()
        self.assertEqual(page.evaluate("[desk.facts.rate, ...desk.facts.tracks.map((t) => t.name)]"),
                         [44_100, "first", "second"])  # fmt: skip

    def test_a_panel_asked_for_before_a_change_does_not_take_it_back(self):
        page, held = self.page, []
        page.get_by_role("tab", name="Gather").click()
        kind = page.get_by_label("What Squeezebox is")
        kind.wait_for()
        was = kind.input_value()
        page.evaluate(
            """() => { globalThis.shown = []; document.body.addEventListener("htmx:afterSwap", (e) => e.target.id === "panel" &&
            shown.push(document.querySelector("[aria-label='What Squeezebox is']").value)); }"""
        )
        page.route("**/panel/gather*", lambda route: held.append((route, route.fetch())), times=1)
        self.addCleanup(page.unroute_all)
        page.evaluate("desk.panels.refresh()")
        while not held:
            page.wait_for_timeout(20)
        with page.expect_response(lambda r: r.request.method == "POST"):
            kind.select_option(next(r for r in ROLES if r != was))
        held[0][0].fulfill(response=held[0][1])
        page.wait_for_function("shown.length")
        quiet(page)
        self.assertNotEqual(kind.input_value(), was)
        self.assertNotIn(was, page.evaluate("shown"))

    def test_a_panel_comes_whatever_else_is_asked_for_while_another_is_on_its_way(self):
        page, held = self.page, []
        page.route("**/panel/guide*", lambda route: held.append(route))
        self.addCleanup(page.unroute_all)
        page.get_by_role("tab", name="Guide", exact=True).click()
        page.wait_for_function("desk.panels.stage === 'guide'")
        while not held:
            page.wait_for_timeout(20)
        page.get_by_role("tab", name="Follow", exact=True).click()
        page.wait_for_timeout(120)  # longer than a panel waits for more reasons to be asked for
        page.evaluate("desk.news.look()")
        held[0].continue_()
        page.get_by_role("tab", name="Chords", exact=True).wait_for()
        self.assertEqual(page.get_by_role("tab", name="Follow", exact=True).get_attribute("aria-selected"), "true")
        self.assertEqual(page.locator("#panel table.ranks").count(), 0)

    def test_a_page_that_is_older_than_the_server_offers_to_load_itself_again(self):
        page = self.page

        def updated(route):
            response = route.fetch()
            state = json.loads(response.headers["hx-trigger"])
            state["session-state"]["version"] = "another"
            route.fulfill(response=response, headers={**response.headers, "hx-trigger": json.dumps(state)})

        page.route("**/sessions/3/jobs*", updated)
        self.addCleanup(page.unroute_all, behavior="ignoreErrors")
        page.get_by_text("Diachron was updated").wait_for()
        page.unroute_all(behavior="ignoreErrors")  # the next one may be half answered
        page.evaluate("globalThis.old = true")
        page.get_by_role("button", name="Load it again").click()
        page.wait_for_function("!globalThis.old")
        settled(page)
        page.evaluate("desk.news.look()")
        quiet(page)
        self.assertEqual(page.get_by_text("Diachron was updated").count(), 0)

    def test_what_has_not_arrived_when_it_is_stopped_is_told_guarded_and_sent(self):
        page = self.page
        made = page.evaluate(NEW_SESSION)
        page.goto(f"{self.studio.url}{made['url']}#stage=gather&pane=record")
        settled(page)
        page.get_by_role("tab", name="Record", exact=True).click()
        page.get_by_label("Input").select_option("simulated")
        page.wait_for_function(INPUT_IS_OPEN)
        full = json.dumps({"error": "The disk is full: free some space."})
        page.route("**/recordings/*?from=*", lambda route: route.fulfill(status=507, body=full))
        page.keyboard.press("@")
        page.wait_for_function("desk.recording.pass?.frames > 2 * desk.facts.rate")
        frames = page.evaluate("desk.recording.pass.frames")
        page.keyboard.press("@")
        page.get_by_text("of what you played are only in this page so far: leave it open. The disk is full").wait_for()
        guarded = """() => {
          const leaving = new Event("beforeunload", { cancelable: true });
          dispatchEvent(leaving);
          return leaving.defaultPrevented;
        }"""
        self.assertTrue(page.evaluate(guarded))
        page.unroute_all(behavior="ignoreErrors")
        page.get_by_text("s recorded").wait_for()
        self.assertEqual(page.get_by_text("only in this page so far").count(), 0)
        self.assertFalse(page.evaluate(guarded))
        source = next((self.folder / "sessions" / str(made["id"])).glob("*/source.wav"))
        self.assertGreaterEqual(sf.info(source).frames, frames)

    def test_a_proxy_before_a_server_that_is_away_and_a_full_disk_mean_not_now(self):
        page = self.page
        level = page.get_by_label("Level of Squeezebox")
        for status, kind, body, words in (
            (
                502,
                "text/html",
                "<html><h1>Bad Gateway</h1></html>",
                "The server does not answer. What you change is kept",
            ),
            (
                507,
                "application/json",
                '{"error": "full"}',
                "The disk is full: free some space. What you change is kept",
            ),
        ):
            self.answer_once("**/tracks/*", status=status, content_type=kind, body=body)
            level.evaluate("(e, to) => { e.value = to; e.dispatchEvent(new Event('input'));"
                           " e.dispatchEvent(new Event('change')); }", -status / 50)  # fmt: skip
            page.get_by_text(words).wait_for()
            page.wait_for_function("document.body.dataset.unsent === '0'")
            self.assertEqual(page.get_by_text(words).count(), 0)
            self.assertEqual(page.get_by_text("Bad Gateway").count(), 0)
            facts = page.evaluate("fetch(`/sessions/3/facts`).then((a) => a.json())")
            gain = next(t["gain"] for t in facts["tracks"] if t["name"] == "Squeezebox")
            self.assertEqual(gain, level.evaluate("(e) => Number(e.value)"))

    def test_a_lost_recording_silences_only_itself_and_is_told(self):
        page = self.page
        track = page.evaluate("desk.facts.tracks.find((t) => t.name === 'Double bass').id")
        source = self.folder / "sessions" / "3" / str(track) / "source.wav"
        source.rename(self.folder / "kept.wav")
        self.addCleanup(lambda: (self.folder / "kept.wav").rename(source))
        page.reload()
        settled(page)
        page.get_by_text("Double bass is silent: its file is missing or damaged.").wait_for()
        page.keyboard.press(" ")
        page.wait_for_function("desk.player.seconds > 0.5")

    def test_every_stage_keeps_to_the_pages_policy(self):
        """Content Security Policy is on here, and the browser tells what it would have stopped."""
        page, told = self.browser.page(strict=True), []
        self.addCleanup(page.close)
        page.on("console", lambda m: told.append(m.text) if "Content Security Policy" in m.text else None)
        page.goto(f"{self.studio.url}/sessions/3/desk")
        settled(page)
        for stage in ("Gather", "Guide", "Find", "Check", "Reshape", "Deliver", "Follow"):
            page.get_by_role("tab", name=stage).click()
            quiet(page)
        for pane in ("Parts", "Chords", "Order", "Score", "Lean"):
            page.get_by_role("tab", name=pane, exact=True).click()
            quiet(page)
        page.keyboard.press(" ")
        until(page, "desk.player.seconds > 0")
        self.assertEqual(told, [])
