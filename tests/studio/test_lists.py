"""The page of all sessions: searched, filtered, sorted, tagged, a part at a time; thousands of them."""

import re
from datetime import timedelta

from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from core.tempomap import TempoMap
from studio.desk.history import record
from studio.desk.models import MapStep
from studio.jobs.models import Job
from studio.library import listing
from studio.library.models import Session, Track
from tests.studio.base import StudioCase


class Lists(StudioCase):
    def setUp(self):
        super().setUp()
        for title, bpm, doubts, seconds in (
            ("Anchor song", 90, 0, 100),
            ("Boat waltz", 140, 3, 300),
            ("Capstan reel", 115, 1, 200),
            ("Drift", None, None, 50),
        ):
            made = Session.objects.create(title=title)
            facts = {"source_name": "source.wav", "digest": title, "rate": 48_000, "channels": 1}
            Track.objects.create(session=made, name="x", seconds=seconds, **facts)
            if bpm:
                step = record(made, TempoMap.steady(bpm, bars=12), "Beats found")
                MapStep.objects.filter(pk=step.pk).update(doubts=doubts)

    def shown(self, query="", **headers):
        text = self.client.get(f"/{query}", headers=headers).content.decode()
        return re.findall(r'class="title" [^>]*>([^<]+)</a>', text)

    def test_all_by_last_change(self):
        self.assertEqual(self.shown(), ["Drift", "Capstan reel", "Boat waltz", "Anchor song"])
        self.post(
            f"/sessions/{Session.objects.get(title='Boat waltz').pk}/mark", kind="section", name="A", stretch=[0, 4]
        )
        self.assertEqual(self.shown()[0], "Boat waltz")

    def test_sorted_by_what_the_heads_say(self):
        self.assertEqual(self.shown("?sort=title&down=0"), ["Anchor song", "Boat waltz", "Capstan reel", "Drift"])
        self.assertEqual(self.shown("?sort=tempo&down=1"), ["Boat waltz", "Capstan reel", "Anchor song", "Drift"])
        self.assertEqual(self.shown("?sort=length&down=1")[0], "Boat waltz")
        self.assertEqual(self.shown("?sort=doubts&down=1")[:2], ["Boat waltz", "Capstan reel"])
        page = self.client.get("/?sort=tempo&down=1").content.decode()
        self.assertIn('aria-sort="descending"', page)
        self.assertIn("?sort=tempo&amp;down=0", page)

    def test_searched_in_titles_and_tags(self):
        boat = Session.objects.get(title="Boat waltz")
        answer = self.client.post(f"/sessions/{boat.pk}", {"tags": " live , slow ,live"})
        self.assertContains(answer, 'href="?tag=slow"')
        self.assertEqual(self.shown("?q=waltz"), ["Boat waltz"])
        self.assertEqual(self.shown("?q=live"), ["Boat waltz"])
        self.assertEqual(self.shown("?q=slow+boat"), ["Boat waltz"])
        self.assertEqual(self.shown("?tag=slow"), ["Boat waltz"])
        self.assertEqual(self.shown("?tag=slo"), [])
        self.assertEqual(listing.tags(), ["live", "slow"])
        self.assertEqual(self.shown("?q=nothing+like+it"), [])
        self.client.post(f"/sessions/{boat.pk}", {"tags": ""})
        self.assertEqual(listing.tags(), [])

    def test_the_morning_view_says_how_many_are_sure_and_which_need_an_ear(self):
        Job.objects.create(session=Session.objects.get(title="Drift"), kind="find")
        page = self.client.get("/").content.decode()
        counts = re.findall(r">(\d+) (sure|to check|all|at work|without a map)</a>", page)
        self.assertEqual(counts, [("4", "all"), ("1", "sure"), ("2", "to check"), ("1", "at work")])
        self.assertEqual(self.shown("?state=check"), ["Capstan reel", "Boat waltz"])
        self.assertEqual(self.shown("?state=sure"), ["Anchor song"])
        self.assertEqual(self.shown("?state=work"), ["Drift"])

    def test_odd_addresses_show_the_list(self):
        for query in ("?sort=x&down=7", "?state=wild", "?start=-5", "?start=99999999999", "?q=%00%25_'", "?start=7"):
            self.assertEqual(self.client.get(f"/{query}").status_code, 200, query)

    def test_a_map_is_read_once_a_step(self):
        self.shown()
        anchor = Session.objects.get(title="Anchor song")
        self.assertEqual((anchor.map_summary["tempo"], anchor.summarised), ("90", anchor.step_id))
        self.assertAlmostEqual(anchor.bpm, 90)
        with CaptureQueriesContext(connection) as queries:
            self.shown()
        self.assertLess(len(queries), 16)
        self.assertFalse([q for q in queries if "UPDATE" in q["sql"]])
        record(anchor, TempoMap.steady(75, bars=12), "Slower")
        self.assertContains(self.client.get("/"), ">75<")


class Many(StudioCase):
    def test_two_thousand_are_listed_a_part_at_a_time_with_few_questions(self):
        now = timezone.now()
        made = Session.objects.bulk_create(Session(title=f"Take {k:04d}") for k in range(2000))
        Track.objects.bulk_create(
            Track(session=s, name="x", source_name="s.wav", digest=str(s.pk), rate=48_000, channels=1, seconds=60)
            for s in made
        )
        for k, s in enumerate(made[:50]):
            Session.objects.filter(pk=s.pk).update(touched=now + timedelta(seconds=k))
        with CaptureQueriesContext(connection) as queries:
            page = self.client.get("/")
        self.assertLess(len(queries), 16)
        shown = re.findall(r'class="title" [^>]*>([^<]+)</a>', page.content.decode())
        self.assertEqual((len(shown), shown[0]), (listing.PAGE, "Take 0049"))
        self.assertContains(page, f"Show more ({2000 - listing.PAGE} left)")
        more = self.client.get(f"/?start={listing.PAGE}", headers={"HX-Request": "true"}).content.decode()
        self.assertNotIn("<table", more)
        seen = set(shown) | set(re.findall(r'class="title" [^>]*>([^<]+)</a>', more))
        self.assertEqual(len(seen), 2 * listing.PAGE)
        self.assertEqual(len(self.client.get("/?q=1999").context["sessions"]), 1)
