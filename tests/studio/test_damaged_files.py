"""A small dose of damaged files: see tests/torture."""

import logging

from tests.studio.base import StudioCase
from tests.torture.readers import bring_in, read_maps


class DamagedFiles(StudioCase):
    def setUp(self):
        super().setUp()
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)

    def test_recordings(self):
        found = bring_in(40, 1)
        self.assertEqual(found.wrong, [])
        self.assertGreater(found.became_tracks, 5)

    def test_maps_and_songs(self):
        found = read_maps(200, 2)
        self.assertEqual(found.wrong, [])
        self.assertGreater(found.became_tracks, 20)
