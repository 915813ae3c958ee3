"""A small dose of requests that mean nothing: see tests/torture."""

import json
import logging

from django.test import Client

from studio.library.models import Session
from tests.studio.base import StudioCase
from tests.torture.content import furnish
from tests.torture.odd_requests import BROKEN, ask


class OddRequests(StudioCase):
    def test_none_meets_a_bug(self):
        made = self.mapped()
        furnish(made)
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)
        found = ask(400, 1, [made.pk, 2, 3])
        self.assertEqual(found.bugs, [])
        self.assertEqual(found.large, [])

    def test_a_damaged_body_is_answered_by_a_sentence(self):
        made = self.mapped()
        for path in ("edit", "undo", "mark", "version", "reshape", "chords/edit", "click-style"):
            for body in BROKEN:
                answer = self.client.post(f"/sessions/{made.pk}/{path}", body, content_type="application/json")
                if answer.status_code == 404:
                    continue
                self.assertLess(answer.status_code, 500, (path, body[:40]))
                self.assertEqual(answer["Content-Type"].split(";")[0], "application/json", (path, body[:40]))

    def test_a_number_beyond_all_bounds_is_refused(self):
        made = self.mapped()
        body = json.dumps({"kind": "move", "beat": 4, "to": 5, "step": made.step_id})
        for number in ("1e999", "NaN", "-Infinity", "9" * 40):
            answer = self.client.post(
                f"/sessions/{made.pk}/edit", body.replace('"to": 5', f'"to": {number}'), content_type="application/json"
            )
            self.assertEqual(answer.status_code, 422)
            self.assertIn("bounds", answer.json()["error"])


class Failures(StudioCase):
    def test_a_missing_page_looks_like_ours_and_a_script_gets_json(self):
        page = self.client.get("/sessions/99/desk", headers={"accept": "text/html"})
        self.assertEqual(page.status_code, 404)
        self.assertContains(page, "There is no such page", status_code=404)
        self.assertContains(page, "To the library", status_code=404)
        self.assertIn("no such page", self.client.get("/sessions/99/map").json()["error"])

    def test_a_bug_is_logged_with_its_traceback_under_the_reference_shown(self):
        made = self.mapped()
        Session.objects.filter(pk=made.pk).update(click={"nonsense": 1})  # as no edit could leave it
        client = Client(raise_request_exception=False)
        with self.assertLogs("studio", "ERROR") as logs:
            answer = client.get(f"/sessions/{made.pk}/click")
        self.assertEqual(answer.status_code, 500)
        reference = answer.json()["error"].split()[-1].rstrip(".")
        self.assertIn(reference, logs.output[0])
        self.assertIn("Traceback", logs.output[0])

    def test_an_old_page_is_told_to_load_again(self):
        strict = Client(enforce_csrf_checks=True)
        answer = strict.post("/sessions/new", "{}", content_type="application/json")
        self.assertEqual(answer.status_code, 403)
        self.assertIn("Load it again", answer.json()["error"])

    def test_a_form_that_stays_gets_plain_words_that_are_not_put_into_the_page(self):
        made = self.mapped()
        answer = self.client.post(f"/sessions/{made.pk}/parts/loop", {"from": "x"}, headers={"hx-request": "true"})
        self.assertIn(answer.status_code, (400, 404, 422))

    def test_health_tells_what_watchers_need(self):
        state = self.client.get("/health")
        self.assertEqual(state.status_code, 200)
        self.assertEqual(state.json()["database"], "ok")

    def test_pages_load_and_run_only_what_is_ours(self):
        """Content Security Policy, W3C level 3: no script but from files of this server, no page in another's frame."""
        for page in (self.client.get("/"), self.client.get(f"/sessions/{self.mapped().pk}/desk")):
            policy = dict(part.split(" ", 1) for part in page["Content-Security-Policy"].split("; "))
            self.assertEqual(policy["script-src"], "'self'")
            self.assertEqual(policy["frame-ancestors"], "'none'")
            text = page.content.decode()
            self.assertNotRegex(text, r"<script(?![^>]*\b(src|type=\"application/json\"))[^>]*>")
            self.assertNotRegex(text, r"\son[a-z]+=")
