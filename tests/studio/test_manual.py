"""The manual: every page can be read, found and reached from its pane."""

import re
from unittest import TestCase as PlainCase

from django.conf import settings
from django.test import TestCase

from studio.manual import book

TEMPLATES = settings.BASE / "studio"


class Book(PlainCase):
    def test_every_page_is_there_and_is_listed(self):
        listed = {*book.STAGES, *book.SITUATIONS}
        self.assertEqual({p.stem for p in book.PAGES.glob("*.md")}, listed)
        for slug in listed:
            page = book.page(slug)
            self.assertTrue(page.title and page.html.startswith("<h1>"), slug)
            self.assertNotIn("{#", page.html)

    def test_every_pane_of_the_desk_has_its_place(self):
        for stage in book.STAGES[1:]:
            template = (TEMPLATES / "desk/templates/desk/panels" / f"{stage}.html").read_text()
            if stage == "reshape":
                template += (TEMPLATES / "reshaping/templates/reshaping/pane.html").read_text()
            panes = set(re.findall(r'role="tab" data-pane="([\w-]+)"', template))
            anchors = {s.anchor for s in book.page(stage).sections}
            self.assertLessEqual(panes, anchors, stage)

    def test_every_picture_is_there(self):
        for slug in (*book.STAGES, *book.SITUATIONS):
            for name in re.findall(r"\]\(([\w-]+\.png)\)", (book.PAGES / f"{slug}.md").read_text()):
                self.assertTrue((settings.BASE / "docs/screenshots" / name).exists(), name)

    def test_words_are_found_wherever_they_stand(self):
        self.assertEqual(book.search("fermata held")[0].page, "fermata")
        self.assertEqual(book.search("LATENCY sweep")[0].anchor, "record")
        self.assertEqual(book.search("xyzzy"), [])
        self.assertEqual(book.search("  "), [])
        titled = [s.title for s in book.search("chords")]
        self.assertEqual(titled[0], "Chords")


class Pages(TestCase):
    def test_pages_and_searches_are_answered(self):
        self.assertContains(self.client.get("/manual"), "First steps")
        self.assertContains(self.client.get("/manual/check"), 'id="doubts"')
        self.assertContains(self.client.get("/manual?q=count-in"), "pickup")
        self.assertContains(self.client.get("/manual?q=%3Cb%3E"), "&lt;b&gt;")
        self.assertEqual(self.client.get("/manual/nothing").status_code, 404)
