"""The whole torture: `make torture`. Bounded, not part of `make test`, which has a small dose of each round."""

import logging
import os
import sys
from unittest import TestCase

from studio.server.warming import warm
from tests.studio.base import StudioCase
from tests.torture.content import furnish
from tests.torture.kills import killed
from tests.torture.odd_requests import ask
from tests.torture.readers import bring_in, read_maps

#: How much of each round; less for a quick look.
SHARE = float(os.environ.get("TORTURE_SHARE", 1))


class Rounds(StudioCase):
    def setUp(self):
        super().setUp()
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)

    def tell(self, text):
        sys.stderr.write(text + "\n")

    def test_odd_requests(self):
        made = self.mapped()
        furnish(made)
        warm()  # as a server does when it begins
        found = ask(round(5000 * SHARE), 11, [made.pk, 2, 3])
        self.tell(f"{found.asked} odd requests: {dict(sorted(found.statuses.items()))}")
        self.assertEqual((found.bugs, found.slow, found.large), ([], [], []))

    def test_damaged_recordings(self):
        found = bring_in(round(1000 * SHARE), 12)
        self.tell(
            f"{found.count} damaged files, {found.became_tracks} became tracks; slowest job {found.slowest:.1f} s"
        )
        self.assertEqual(found.wrong, [])

    def test_damaged_maps_songs_and_archives(self):
        found = read_maps(round(2000 * SHARE), 13)
        self.tell(f"{found.count} damaged maps and songs: {found.became_tracks} were read")
        self.assertEqual(found.wrong, [])


class Kills(TestCase):
    def test_nothing_acknowledged_is_lost(self):
        found = killed(round(100 * SHARE), 14)
        sys.stderr.write(f"{found.kills} kills, {found.acknowledged} acknowledged changes\n")
        self.assertGreater(found.acknowledged, found.kills)
        self.assertEqual(found.wrong, [])
