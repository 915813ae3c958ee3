"""A shared studio: who gets in, and who may do what. Every address is tried by everybody."""

import os
import re
import subprocess
import sys
from unittest import mock

import numpy as np
from django.conf import settings
from django.contrib.auth.models import User
from django.http import HttpResponse
from django.test import Client, override_settings
from django.urls import get_resolver, reverse
from django.urls.resolvers import URLPattern

from core.notes import Note
from core.tempomap import TempoMap
from studio.accounts.access import Access
from studio.accounts.by_proxy import NamedByProxy
from studio.accounts.models import Grant, Invitation, Level
from studio.accounts.rules import RULES, General
from studio.desk import history
from studio.desk.models import MapStep, Mark
from studio.jobs.models import Job
from studio.library.models import Session, Upload
from studio.parts import part_history
from studio.recording.models import Recording
from studio.running_order.models import Turn
from tests.studio.base import StudioCase

EVEN = TempoMap.from_beats(1 + 0.5 * np.arange(40))
GOOD = "a slipway at low tide"
#: No view answers so.
REACHED = 299
#: A quick digest of passwords, as there are many accounts here.
SHARED = override_settings(
    SHARED=True,
    MIDDLEWARE=settings.SHARED_MIDDLEWARE,
    PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"],
)


def patterns(found=None):
    """All addresses of the studio."""
    for p in (found or get_resolver()).url_patterns:
        if isinstance(p, URLPattern):
            yield p
        else:
            yield from patterns(p)


class Shared(StudioCase):
    def setUp(self):
        super().setUp()
        self.enterContext(SHARED)

    def person(self, name, **more):
        return User.objects.create_user(name, password=GOOD, **more)

    def as_(self, user):
        client = Client(headers={"accept": "application/json"})
        if user:
            client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
        return client


class EveryAddress(Shared):
    def setUp(self):
        super().setUp()
        take = self.take = self.session(self.wav(), title="Lantern")
        self.work(Job.objects.create(session=take, kind="listen", track=take.tracks.get()))
        history.record(take, EVEN, "Even beats")
        mark = Mark.objects.create(session=take, kind=Mark.Kind.SECTION, name="A", start=1.0, end=3.0)
        part = part_history.make(take, "drum", "drums", [Note(1.0, 1.2, 36, 90)], "clock")
        self.keys = {
            "session": take.pk,
            "binned": Session.everything.create(title="binned", gone=True).pk,
            "track": take.tracks.get().pk,
            "part": part.pk,
            "upload": Upload.objects.create(session=take, name="x.wav", size=10).pk,
            "job": Job.objects.create(session=take, kind="find", state="failed").pk,
            "recording": Recording.objects.create(session=take, rate=48_000, channels=1, starts=0).pk,
            "turn": Turn.objects.create(session=take, section=mark, place=0).pk,
        }
        self.clients = {}
        self.people = {"stranger": None, "other": self.person("other"), "admin": self.person("admin")}
        User.objects.filter(username="admin").update(is_superuser=True)
        self.people["admin"].refresh_from_db()
        for level in Level:
            user = self.people[level.label] = self.person(level.label.replace(" ", ""))
            for session in (take.pk, self.keys["binned"]):
                Grant.objects.create(session_id=session, user=user, level=level)

    def address(self, name, rule, converters):
        given = {"stage": "check", "level": 64, "tile": 0, "number": 0, "step": self.take.step_id, "token": "x",
                 "uidb64": "x",
                 "track": self.keys["track"], "part": self.keys["part"], "key": "map.mid",
                 "name": "player", "slug": "check"}  # fmt: skip
        given["pk"] = self.keys.get(getattr(rule, "of", ""), 0)
        return reverse(name, kwargs={k: given[k] for k in converters})

    def test_every_address_has_a_rule_and_every_rule_an_address(self):
        self.assertEqual({p.name for p in patterns()}, set(RULES))

    def test_everybody_at_every_address(self):
        levels = {"stranger": 0, "other": 0, "admin": Level.OWN, **{x.label: x for x in Level}}
        for p in patterns():
            rule = RULES[p.name]
            address = self.address(p.name, rule, p.pattern.converters)
            for who, user in self.people.items():
                for method in ("get", "post"):
                    # what would go through is not done: only who is let through is looked at
                    if isinstance(rule, General):
                        free = rule.who == "anybody" or who == "admin" or (rule.who == "account" and user is not None)
                        hidden = False
                    else:
                        needed = rule.read if method == "get" else rule.write
                        free, hidden = levels[who] >= needed, not levels[who]
                    with self.subTest(address=address, who=who, method=method):
                        answer = self.reached(user, method, address)
                        if free:
                            self.assertEqual(answer, "reached")
                        elif user is None:
                            self.assertEqual(answer, 401)
                        else:
                            self.assertEqual(answer, 404 if hidden else 403)

    def reached(self, user, method, address):
        """The status with which access was refused, or "reached" where the view would have been called."""
        if user not in self.clients:
            self.clients[user] = self.as_(user)
        original = Access.process_view

        def stopped(*args):
            return original(*args) or HttpResponse(status=REACHED)

        with mock.patch.object(Access, "process_view", stopped):
            status = getattr(self.clients[user], method)(address).status_code
        return "reached" if status == REACHED else status

    def test_a_listener_sees_and_hears_and_changes_nothing(self):
        client = self.as_(self.people["listen"])
        for what in ("desk", "facts", "map", "doubts", "marks", "panel/check", "parts", "order"):
            self.assertEqual(client.get(f"/sessions/{self.take.pk}/{what}").status_code, 200, what)
        step = self.take.step_id
        edit = {"kind": "nudge", "beat": 4, "by": 0.01, "step": step}
        answer = client.post(f"/sessions/{self.take.pk}/edit", edit, content_type="application/json")
        self.assertEqual(answer.status_code, 403)
        self.assertIn("You may listen here", answer.json()["error"])
        self.assertEqual(Session.objects.get(pk=self.take.pk).step_id, step)
        self.assertEqual(client.get(f"/sessions/{self.take.pk}/deliver/file/map.mid").status_code, 403)
        self.assertContains(client.get(f"/sessions/{self.take.pk}/panel/deliver"), "let you fetch files")
        fetching = self.as_(self.people["fetch files"]).get(f"/sessions/{self.take.pk}/panel/deliver")
        self.assertContains(fetching, 'id="bundles"')
        self.assertContains(client.get(f"/sessions/{self.take.pk}/desk"), "you may listen")

    def test_lists_hold_only_what_one_may_see(self):
        mine = self.as_(self.people["own"])
        self.assertContains(mine.get("/"), "Lantern")
        self.assertContains(mine.get("/"), "binned")
        page = self.as_(self.people["other"]).get("/")
        self.assertNotContains(page, "Lantern")
        self.assertNotContains(page, "binned")
        Job.objects.create(session=self.take, kind="find")
        self.assertContains(mine.get("/queue"), "Lantern")
        self.assertNotContains(self.as_(self.people["other"]).get("/queue"), "Lantern")
        self.assertContains(self.as_(self.people["fetch files"]).get("/archives"), "Lantern")
        self.assertNotContains(self.as_(self.people["listen"]).get("/archives"), "Lantern")

    def test_another_session_named_in_a_request_must_be_ones_own_too(self):
        other = self.people["other"]
        own = self.session(self.wav("own.wav"), title="own")
        history.record(own, EVEN, "Even beats")
        Grant.objects.create(session=own, user=other, level=Level.OWN)
        asked = {"do": "conform", "kind": "map", "session": self.take.pk}
        client = self.as_(other)
        refused = client.post(f"/sessions/{own.pk}/reshape", asked, content_type="application/json")
        self.assertIn(refused.status_code, (404, 422))
        Grant.objects.create(session=self.take, user=other, level=Level.CORRECT)
        taken = client.post(f"/sessions/{own.pk}/reshape", asked, content_type="application/json")
        self.assertEqual(taken.status_code, 200, taken.content[:300])

    def test_who_did_what_stands_in_the_history(self):
        client = self.as_(self.people["correct"])
        edit = {"kind": "nudge", "beat": 4, "by": 0.01, "step": self.take.step_id}
        answer = client.post(f"/sessions/{self.take.pk}/edit", edit, content_type="application/json")
        self.assertEqual(answer.status_code, 200, answer.content[:300])
        self.assertEqual(MapStep.objects.order_by("pk").last().by, "correct")
        self.assertContains(client.get(f"/sessions/{self.take.pk}/panel/check"), '<small class="by">correct</small>')
        client.post(f"/sessions/{self.take.pk}/find")
        job = Job.objects.filter(state="waiting").last()
        self.assertEqual(job.by, "correct")


class GettingIn(Shared):
    def test_the_first_admin_comes_by_a_link_that_works_once(self):
        token = Invitation.new(admin=True)
        client = Client()
        page = client.get(f"/invitation/{token}")
        self.assertContains(page, "as administrator")
        for weak in ("short", "1234567890", "password123", "boatwright1"):
            answer = client.post(f"/invitation/{token}",
                                 {"username": "boatwright", "new_password1": weak, "new_password2": weak})  # fmt: skip
            self.assertEqual(answer.status_code, 200)
        fields = {"username": "boatwright", "new_password1": GOOD, "new_password2": GOOD}
        self.assertRedirects(client.post(f"/invitation/{token}", fields), "/")
        user = User.objects.get()
        self.assertTrue(user.is_superuser)
        self.assertEqual(Client().get(f"/invitation/{token}").status_code, 404)
        self.assertNotIn(token, str(list(Invitation.objects.values())))

    def test_wrong_passwords_have_to_wait(self):
        self.person("anna")
        client = Client()
        for _ in range(settings.AXES_FAILURE_LIMIT):
            last = client.post("/login", {"username": "anna", "password": "wrong"})
        self.assertEqual(last.status_code, 429)
        self.assertEqual(client.post("/login", {"username": "anna", "password": GOOD}).status_code, 429)
        other = self.person("berta")
        self.assertRedirects(client.post("/login", {"username": other.username, "password": GOOD}), "/")

    def test_a_forgotten_password_is_chosen_anew_by_a_link_of_an_administrators(self):
        anna, admin = self.person("anna"), self.person("admin", is_superuser=True)
        elsewhere, client = self.as_(anna), Client(headers={"accept": "text/html"})
        for _ in range(settings.AXES_FAILURE_LIMIT):
            client.post("/login", {"username": "anna", "password": "wrong"})
        page = self.as_(admin).post("/people", {"forgotten": anna.pk})
        link = re.search(r'value="http://testserver(/password/[^"]+)"', page.content.decode())[1]
        form = client.get(link, follow=True)
        self.assertContains(form, "a new password for anna")
        new = {"new_password1": "harbour lights 7", "new_password2": "harbour lights 7"}
        self.assertRedirects(client.post(form.redirect_chain[-1][0], new), "/")
        self.assertEqual(elsewhere.get("/").status_code, 401)
        self.assertContains(Client().get(link), "used already")
        again = Client().post("/login", {"username": "anna", "password": "harbour lights 7"})
        self.assertRedirects(again, "/", fetch_redirect_response=False)
        self.assertEqual(self.as_(anna).post("/people", {"forgotten": admin.pk}).status_code, 401)

    def test_what_somebody_may_not_is_told_on_a_page(self):
        client = self.as_(self.person("anna"))
        page = client.get("/people", headers={"accept": "text/html"})
        self.assertContains(page, "Only an administrator may do this.", status_code=403)
        self.assertContains(page, "To the library", status_code=403)

    def test_log_in_leads_back_to_where_one_was_and_log_out_ends_it(self):
        self.person("anna")
        client = Client(headers={"accept": "text/html"})
        answer = client.get("/sessions/5/desk?bar=3")
        self.assertRedirects(answer, "/login?next=/sessions/5/desk%3Fbar%3D3")
        to = client.post("/login?next=/queue", {"username": "anna", "password": GOOD, "next": "/queue"})
        self.assertRedirects(to, "/queue")
        away = client.post("/login?next=https://elsewhere.example/", {"username": "anna", "password": GOOD})
        self.assertEqual(away.headers["Location"], "/")
        client.post("/logout")
        self.assertEqual(client.get("/queue").status_code, 302)

    def test_an_account_that_is_shut_is_out_at_once(self):
        anna, admin = self.person("anna"), self.person("admin", is_superuser=True)
        client = self.as_(anna)
        self.assertEqual(client.get("/").status_code, 200)
        self.as_(admin).post("/people", {"person": anna.pk})
        self.assertEqual(client.get("/").status_code, 401)
        self.assertEqual(self.as_(anna).get("/people").status_code, 401)

    def test_a_link_opens_one_session_and_can_be_taken_back(self):
        anna = self.person("anna")
        mine = self.as_(anna)
        made = mine.post("/sessions/new", {"title": "Lantern"}, content_type="application/json").json()["id"]
        page = mine.post(f"/sessions/{made}/share", {"link": "1", "level": Level.LISTEN})
        link = page.context["link"]
        guest = Client(headers={"accept": "text/html"})
        self.assertRedirects(guest.get(link.removeprefix("http://testserver")), f"/sessions/{made}/desk")
        other = Session.objects.create(title="not shared")
        self.assertEqual(guest.get(f"/sessions/{other.pk}/desk").status_code, 302)
        self.assertEqual(guest.get("/").status_code, 302)
        self.assertEqual(guest.post(f"/sessions/{made}", {"title": "mine"}).status_code, 403)
        grant = Grant.objects.get(user=None)
        mine.post(f"/sessions/{made}/share", {"take": grant.pk})
        self.assertEqual(guest.get(f"/sessions/{made}/desk").status_code, 302)

    def test_the_last_owner_stays(self):
        anna = self.person("anna")
        mine = self.as_(anna)
        made = mine.post("/sessions/new", {"title": "Lantern"}, content_type="application/json").json()["id"]
        own = Grant.objects.get()
        self.assertEqual((own.user, own.level), (anna, Level.OWN))
        for asked in ({"take": own.pk}, {"person": "anna", "level": Level.LISTEN}):
            self.assertContains(mine.post(f"/sessions/{made}/share", asked), "only owner", status_code=422)
        self.assertContains(
            mine.post(f"/sessions/{made}/share", {"person": "nobody", "level": 1}), "Nobody here", status_code=422
        )
        self.person("berta")
        self.assertEqual(mine.post(f"/sessions/{made}/share", {"person": "Berta", "level": 4}).status_code, 200)
        self.assertEqual(mine.post(f"/sessions/{made}/share", {"take": own.pk}).status_code, 200)
        self.assertEqual(mine.get(f"/sessions/{made}/share").status_code, 404)

    def test_keys_in_addresses_cannot_be_counted(self):
        made = [Session.objects.create(title=str(k)).pk for k in range(5)]
        self.assertEqual(made, sorted(made))
        self.assertGreater(min(b - a for a, b in zip(made, made[1:], strict=False)), 1)
        self.assertLess(max(made), 2**53)

    def test_a_proxy_that_logs_people_in(self):
        middleware = [*settings.SHARED_MIDDLEWARE]
        at = middleware.index("django.contrib.auth.middleware.AuthenticationMiddleware") + 1
        middleware.insert(at, "studio.accounts.by_proxy.NamedByProxy")
        backends = [*settings.AUTHENTICATION_BACKENDS, "django.contrib.auth.backends.RemoteUserBackend"]
        with (
            override_settings(MIDDLEWARE=middleware, AUTHENTICATION_BACKENDS=backends),
            mock.patch.object(NamedByProxy, "header", "HTTP_X_HOUSE_USER"),
        ):
            page = Client().get("/", headers={"x-house-user": "anna", "accept": "text/html"})
            self.assertContains(page, "anna")
            self.assertEqual(Client().get("/", headers={"accept": "text/html"}).status_code, 302)


class Local(StudioCase):
    def test_there_are_no_accounts(self):
        for path in ("/login", "/logout", "/password", "/people", "/invitation/x", "/link/x", "/sessions/1/share"):
            self.assertEqual(self.client.get(path).status_code, 404, path)
            self.assertIn(self.client.post(path).status_code, (404, 405), path)
        first, second = (Session.objects.create(title="x").pk for _ in range(2))
        self.assertEqual(second, first + 1)

    def test_django_finds_nothing_to_say_of_a_shared_studio(self):
        """Django's own list for deployment (``check --deploy``)."""
        environment = {**os.environ, "DIACHRON_SHARED": "1", "DIACHRON_DATA": str(self.folder)}
        command = [sys.executable, "manage.py", "check", "--deploy", "--fail-level", "WARNING"]
        done = subprocess.run(command, env=environment, cwd=settings.BASE, capture_output=True, text=True, timeout=300)
        self.assertEqual(done.returncode, 0, done.stderr)
