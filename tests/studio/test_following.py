"""Click styles, the click of some bars, and the Lean view, as the page asks for them."""

import csv
import io

import numpy as np
import soundfile as sf

from tests.studio.base import StudioCase


class Following(StudioCase):
    def setUp(self):
        super().setUp()
        self.session_ = self.mapped()
        self.url = f"/sessions/{self.session_.pk}"

    def click(self):
        return self.client.get(f"{self.url}/click").json()

    def test_a_figure_is_heard_and_delivered_alike(self):
        before = self.click()
        self.assertEqual(self.post(f"{self.url}/click-style", sound="bell", figure="eighths").status_code, 200)
        after = self.click()
        self.assertEqual(len(after["samples"]), 2 * len(before["samples"]) - 1)
        self.assertNotEqual(after["sounds"], before["sounds"])
        wav = b"".join(self.client.get(f"{self.url}/deliver/click.wav").streaming_content)
        x, _ = sf.read(io.BytesIO(wav))
        for at in after["samples"][:20]:
            self.assertNotEqual(x[at], 0)
        self.assertIn("<option selected>bell", self.client.get(f"{self.url}/panel/follow").content.decode())

    def test_a_steady_click_to_hear_the_drift_against_before_there_is_a_map(self):
        found = self.client.get(f"{self.url}/click?bpm=120&from=1.5").json()
        np.testing.assert_array_equal(np.diff(found["samples"][:20]), 22_050)
        self.assertEqual(found["samples"][0], round(1.5 * 44_100))
        self.assertEqual(self.client.get(f"{self.url}/click?bpm=2000").status_code, 422)

    def test_where_attacks_start_for_slow_playback(self):
        found = np.array(self.client.get(f"{self.url}/attacks").json()["samples"])
        true = 44_100 * (1 + 0.5 * np.arange(40))
        self.assertEqual(len(found), 40)
        self.assertLess(np.abs(found - true).max(), 0.003 * 44_100)

    def test_there_is_no_such_click(self):
        self.assertEqual(self.post(f"{self.url}/click-style", sound="cow").status_code, 422)

    def test_the_click_of_some_bars_starts_on_the_first_one_s_line(self):
        whole, _ = sf.read(io.BytesIO(b"".join(self.client.get(f"{self.url}/deliver/click.wav").streaming_content)))
        answer = self.client.get(f"{self.url}/deliver/click.wav?from=3&to=4")
        part, rate = sf.read(io.BytesIO(b"".join(answer.streaming_content)))
        grid = self.client.get(f"{self.url}/map").json()["grid"]
        line = {b: t for b, n, t in zip(grid["bar"], grid["beat"], grid["time"], strict=True) if n == 1}
        start, end = (round(line[b] * rate) for b in (3, 5))
        self.assertEqual(len(part), end - start)
        np.testing.assert_array_equal(part, whole[start:end])
        for bars in ("from=9&to=4", "from=900&to=901", "from=x", "from=-9"):
            self.assertEqual(self.client.get(f"{self.url}/deliver/click.wav?{bars}").status_code, 422, bars)

    def test_lean_as_a_picture_and_as_a_table(self):
        page = self.client.get(f"{self.url}/lean").content.decode()
        self.assertIn("on the beat, very firm", page)
        rows = list(csv.reader(io.StringIO(self.client.get(f"{self.url}/lean.csv").content.decode())))
        self.assertEqual(rows[0], ["bar", "beat", "seconds", f"{self.session_.tracks.get().name} (ms)"])
        self.assertEqual(len(rows) - 1, len(self.client.get(f"{self.url}/map").json()["grid"]["time"]))
        self.assertLess(max(abs(float(r[3])) for r in rows[1:] if r[3]), 3)
