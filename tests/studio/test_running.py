"""The running order through the page's own addresses."""

from unittest import mock

from studio.desk.models import Mark
from studio.library.lookup import with_map
from studio.running_order.models import Turn
from tests.studio.base import StudioCase


class Running(StudioCase):
    def setUp(self):
        super().setUp()
        self.session_ = self.mapped()
        self.url = f"/sessions/{self.session_.pk}"
        m = self.session_.step.tempo_map
        for name, a, b in (("Verse", 1, 3), ("Chorus", 3, 5), ("Out", 7, 8)):
            start, end = (float(m.bar_seconds(x)) for x in (a, b))
            Mark.objects.create(session=self.session_, kind=Mark.Kind.SECTION, name=name, start=start, end=end)

    def order(self):
        return self.client.get(f"{self.url}/order").json()["order"]

    def add(self, **said):
        return self.client.post(f"{self.url}/order/add", said)

    def change(self, place, **said):
        return self.client.post(f"/turns/{self.order()[place]['id']}", said)

    def test_sections_in_samples_of_their_bar_lines(self):
        self.add(all="1")
        m, rate = self.session_.step.tempo_map, self.session_.rate
        found = self.order()
        self.assertEqual([t["name"] for t in found], ["Verse", "Chorus", "Out"])
        self.assertEqual(found[0]["start"], round(float(m.bar_seconds(1)) * rate))
        self.assertEqual(found[0]["bars"], [round(float(m.bar_seconds(b)) * rate) for b in (2, 3)])
        self.assertEqual(found[0]["end"], found[1]["start"])

    def test_often_held_faster_moved_and_taken_out(self):
        self.add(all="1")
        self.change(0, times="3")
        self.change(1, hold="on")
        self.change(2, pace="90")
        found = self.order()
        self.assertEqual((found[0]["times"], found[1]["hold"], found[2]["pace"]), (3, True, 0.9))
        self.change(0, move="1")
        self.assertEqual([t["name"] for t in self.order()], ["Chorus", "Verse", "Out"])
        self.change(0, out="1")
        self.assertEqual([t["name"] for t in self.order()], ["Verse", "Out"])
        self.add(section=Turn.objects.first().section_id)
        self.assertEqual([t["name"] for t in self.order()], ["Verse", "Out", "Verse"])

    def test_two_changes_of_one_turn_at_a_time_keep_both(self):
        self.add(all="1")
        turn = self.order()[0]["id"]

        def meanwhile(pk):
            Turn.objects.filter(pk=turn).update(pace=0.9)
            return with_map(pk)

        with mock.patch("studio.running_order.views.with_map", meanwhile):
            self.client.post(f"/turns/{turn}", {"times": "3"})
        self.assertEqual((self.order()[0]["times"], self.order()[0]["pace"]), (3, 0.9))

    def test_what_cannot_be(self):
        self.add(all="1")
        for said in ({"times": "0"}, {"times": "x"}, {"pace": "10"}):
            self.assertEqual(self.change(0, **said).status_code, 422, said)
        self.assertEqual(self.order()[0]["times"], 1)
        self.assertEqual(self.add(section="999").status_code, 422)

    def test_sections_follow_the_map(self):
        self.add(all="1")
        step = self.session_.step
        beat = {
            "kind": "move",
            "beat": 0,
            "to": float(step.tempo_map.bar_seconds(1)) + 0.02,
            "reach": "beat",
            "snap_within": 0,
        }
        self.assertEqual(self.post(f"{self.url}/edit", step=step.pk, **beat).status_code, 200)
        self.session_.refresh_from_db()
        line = float(self.session_.step.tempo_map.bar_seconds(1))
        self.assertEqual(self.order()[0]["start"], round(line * self.session_.rate))
