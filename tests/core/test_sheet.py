"""The take on one page. Readers of its own: an XML parser for the SVG, the structure of PDF (ISO 32000-1) by hand."""

import base64
import re
import zlib
from unittest import TestCase
from xml.etree import ElementTree as ET

import numpy as np

from core.formats import sheet
from core.formats.carried.content import Section
from core.tempomap import Meters, TempoMap

SVG = "{http://www.w3.org/2000/svg}"


def take(bars=20, meters=None, first=0):
    gaps = 0.5 + 0.05 * np.sin(np.arange(4 * bars - 1) / 7)
    return TempoMap.from_beats(1 + np.concatenate([[0], np.cumsum(gaps)]), first, meters)


def texts(page):
    return ["".join(t.itertext()) for t in ET.fromstring(page.split("?>", 1)[1].split(">", 1)[1]).iter(f"{SVG}text")]


def pdf_text(data):
    """What the page's streams draw, unpacked."""
    out = b""
    for stream in re.findall(rb"stream\r?\n(.*?)endstream", data, re.S):
        raw = stream.strip()
        if raw.endswith(b"~>"):
            raw = base64.a85decode(raw if raw.startswith(b"<~") else b"<~" + raw, adobe=True)
        out += zlib.decompress(raw) if raw[:1] == b"\x78" else raw
    return out.decode("latin-1")


class OnePage(TestCase):
    def setUp(self):
        self.map = take(meters=Meters.of((1, "4/4"), (6, "3/4"), (7, "4/4")))
        lines = self.map.bar_seconds([1, 5, 9])
        sections = [
            Section(float(lines[0]), float(lines[1]), "Quay (1)"),
            Section(float(lines[1]), float(lines[2]), "Köder"),
        ]
        self.sheet = sheet.Sheet("Lantern & Slipway", self.map, sections, [float(lines[1]) + 0.1])

    def test_every_bar_has_its_number_and_each_change_of_meter_stands_there(self):
        found = texts(sheet.svg(self.sheet))
        first, last = self.map.bar_range
        for bar in range(first, last + 1):
            self.assertIn(str(bar), found)
        self.assertEqual((found.count("3/4"), found.count("4/4")), (1, 1))
        self.assertIn("Lantern & Slipway", found)
        bars = self.map.bar_seconds([1, 5, 9])
        for name, a, b in (
            ("Quay (1)", 0, 1),
            ("Köder", 1, 2),
        ):
            felt = self.map.beat_index_at(bars[b]) - self.map.beat_index_at(bars[a])
            self.assertIn(f"{name}, {60 * felt / (bars[b] - bars[a]):.1f}", found)

    def test_the_smooth_tempo_stands_beside_that_of_single_beats(self):
        jitter = np.random.default_rng(2).normal(0, 0.02, 63)
        uneven = TempoMap.from_beats(np.concatenate([[0], np.cumsum(0.5 + jitter)]))
        lines = [s for s in sheet.drawing(sheet.Sheet("x", uneven)).contents if hasattr(s, "points")]
        spread = [np.std(np.diff(s.points[1::2])) for s in lines[:2]]
        self.assertGreater(spread[0], 3 * spread[1])

    def test_bar_lines_stand_in_order_and_all_is_on_the_page(self):
        page = sheet.drawing(self.sheet)
        for shape in page.contents:
            left, bottom, right, top = shape.getBounds()
            self.assertTrue(left >= 0 and right <= sheet.WIDTH + 1, shape)
            self.assertTrue(bottom >= 0 and top <= sheet.HEIGHT, shape)

    def test_the_pdf_has_one_page_with_the_same_words(self):
        data = sheet.pdf(self.sheet)
        self.assertTrue(data.startswith(b"%PDF-"))
        self.assertEqual(len(re.findall(rb"/Type\s*/Page\b(?!s)", data)), 1)
        drawn = pdf_text(data)
        self.assertIn(r"(Quay \(1\), ", drawn)
        self.assertIn("(Lantern & Slipway)", drawn)

    def test_any_take_fits_one_page(self):
        for bars in (2, 33, 400, 1500):
            page = sheet.drawing(sheet.Sheet("Ж" * 10, take(bars)))
            self.assertGreaterEqual(min(s.getBounds()[1] for s in page.contents), 0, bars)
            sheet.pdf(sheet.Sheet("Ж", take(bars)))

    def test_a_steady_take_is_drawn(self):
        self.assertIn(
            "120.0 beats a minute", " ".join(texts(sheet.svg(sheet.Sheet("x", TempoMap.steady(120, Meters(), 1.0, 8)))))
        )
