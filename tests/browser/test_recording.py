"""Recording in the real page: a fake input device for the content, the player's own sound for the place in time."""

import base64
import tempfile
import time
from pathlib import Path
from unittest import TestCase

import numpy as np
import scipy.signal as sps
import soundfile as sf
from django.test import tag

from core.audio.growing import HEADER
from tests.browser.studio import INPUT_IS_OPEN, NEW_SESSION, Browser, Studio, quiet, settled

RATE = 44_100  # of Chromium's fake device
STEP = 1.001 / 32768
#: What is sent to the loudspeakers comes back as input, as by a cable; the browser delays it on its way.
CABLE = """() => {
  const { connect } = AudioNode.prototype, ends = new Map();
  const end = (context) => ends.get(context) ?? ends.set(context, context.createMediaStreamDestination()).get(context);
  AudioNode.prototype.connect = function (to, ...more) {
    if (to === this.context.destination && !(this instanceof GainNode)) connect.call(this, end(this.context));
    return connect.call(this, to, ...more);
  };
  navigator.mediaDevices.getUserMedia = async () => end(desk.player.context).stream.clone();
  desk.player.out.connect(desk.player.context.destination);
}"""
#: Keeps all that the audio thread hands to the page.
TAP = """() => {
  globalThis.tapped = [];
  desk.recording.input.addEventListener("samples", ({ detail }) => tapped.push(detail.data.slice()));
}"""
TAPPED = """async () => {
  const url = await new Promise((done) => {
    const reader = new FileReader();
    reader.onload = () => done(reader.result);
    reader.readAsDataURL(new Blob(tapped));
  });
  return url.slice(url.indexOf(",") + 1);
}"""


def place_of(piece, whole):
    """Where a piece stands in a sound, and the largest difference there."""
    match = sps.fftconvolve(whole, piece[::-1], mode="valid")
    total = np.concatenate(([0.0], np.cumsum(whole**2)))
    at = int(np.argmin(total[len(piece) :] - total[: -len(piece)] - 2 * match))  # the least squares
    return at, float(np.max(np.abs(whole[at : at + len(piece)] - piece)))


def equal_pieces(recorded, played, size=1000, every=12_000, back=RATE // 2, on=5 * RATE):
    """The share of short pieces of a recording that stand in what was played, to the step of 16 bits, each near where
    the one before it stands."""
    shift, equal = place_of(recorded[: RATE // 2], played)[0], []
    for k in range(0, len(recorded) - size, every):
        left = max(0, shift + k - back)
        there = played[left : shift + k + size + on]
        if len(there) < size:
            break
        at, off = place_of(recorded[k : k + size], there)
        equal.append(off <= STEP)
        if equal[-1]:
            shift = left + at - k
    return float(np.mean(equal))


@tag("real_time")
class Recording(TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        cls.studio = Studio(cls.folder, demo=True).start()
        cls.addClassCleanup(lambda: cls.studio.stop())

    def browser(self, *flags):
        browser = Browser(*flags)
        self.addCleanup(browser.close)
        return browser

    def opened(self, page, address):
        page.goto(f"{self.studio.url}{address}#stage=gather&pane=record")
        settled(page)
        page.get_by_role("tab", name="Record", exact=True).click()

    def strokes(self):
        """A free performance of strokes over soft noise, as 16-bit samples; no piece of it is like another."""
        rng = np.random.default_rng(4)
        at = np.cumsum(
            0.5 + 0.02 * rng.standard_normal(480)
        )  # four minutes: the device begins before the page is ready
        x = 0.003 * rng.standard_normal(round(RATE * (at[-1] + 1)))
        for i, t in enumerate(at):
            n = np.arange(6000)
            x[round(t * RATE) :][:6000] += (0.5 if i % 4 == 0 else 0.3) * rng.standard_normal(6000) * np.exp(-n / 500)
        return np.round(np.clip(x, -1, 1) * 32767) / 32768

    def test_a_take_is_recorded_to_the_sample_and_mapped_though_the_server_dies(self):
        sound, played = self.folder / "input.wav", self.strokes()
        sf.write(sound, played, RATE, "PCM_16")
        browser = self.browser("--use-fake-ui-for-media-stream", "--use-fake-device-for-media-stream",
                               f"--use-file-for-fake-audio-capture={sound}%noloop")  # fmt: skip
        page = browser.page()
        page.goto(self.studio.url)
        made = page.evaluate(NEW_SESSION)
        self.opened(page, made["url"])
        page.get_by_role("button", name="Open", exact=True).click()
        page.wait_for_function(f"{INPUT_IS_OPEN} && desk.facts.rate === 44100")
        page.evaluate(TAP)
        page.get_by_role("button", name="Record", exact=True).click()
        page.wait_for_function("desk.recording.pass?.frames > 3 * desk.facts.rate")
        self.studio.kill()
        page.get_by_text("The server does not answer. What is played is kept here").wait_for()
        self.studio.start()
        # the map so far is shown while it is played
        page.wait_for_function("desk.recording.pass && desk.grid?.length > 8")
        self.assertIsNone(page.evaluate("desk.step"))
        page.wait_for_function("desk.recording.pass.frames > 11.2 * desk.facts.rate")
        page.get_by_role("button", name="Stop", exact=True).click()
        page.wait_for_function("desk.step && desk.facts.tracks[0].analysed")
        source = next((self.folder / "sessions" / str(made["id"])).glob("*/source.wav"))
        recorded = sf.read(source, dtype="float32")[0]
        self.assertGreater(len(recorded), 11 * RATE)
        # every sample that the audio thread handed on is in the file, though the server was away
        tapped = np.frombuffer(base64.b64decode(page.evaluate(TAPPED)), np.float32)
        starts = np.flatnonzero(tapped == recorded[0])
        first = next(k for k in starts if np.array_equal(tapped[k : k + 2000], recorded[:2000]))
        np.testing.assert_array_equal(recorded, tapped[first : first + len(recorded)])
        # and they are those of the device. On a busy machine the browser leaves out or delays some of its buffers.
        self.assertGreater(equal_pieces(recorded.astype(float), played), 0.5)
        self.assertEqual(browser.errors, [])

    def test_a_closed_page_loses_less_than_a_second(self):
        browser = self.browser()
        page = browser.page()
        page.goto(self.studio.url)
        made = page.evaluate(NEW_SESSION)
        self.opened(page, made["url"])
        page.get_by_label("Input").select_option("simulated")
        page.wait_for_function(INPUT_IS_OPEN)
        page.get_by_role("button", name="Tuner").click()
        page.wait_for_function("document.getElementById('tuner-note').textContent !== '–'")
        page.keyboard.press("@")
        page.wait_for_function("desk.recording.pass?.frames > 3 * desk.facts.rate")
        # ended in another window: what is played goes on in another pass, without a gap
        page.evaluate("fetch(`/recordings/${desk.recording.pass.id}/end`, { method: 'POST', headers: "
                      "{ 'X-CSRFToken': document.cookie.match(/csrftoken=([^;]+)/)[1] } })")  # fmt: skip
        page.wait_for_function("desk.recording.pass?.sending.before > 0 && desk.recording.pass.sending.sent > 48000")
        # what the server has no time for waits in the page
        frames = page.wait_for_function(
            "desk.recording.pass.sending.behind(desk.facts.rate) < 0.5 && desk.recording.pass.frames"
        ).json_value()
        page.close()
        time.sleep(0.5)
        folder = self.folder / "sessions" / str(made["id"])
        file = next(folder.glob("recording-*.wav"))
        first = sf.info(next(folder.glob("*/source.wav"))).frames
        self.assertGreater(first + (file.stat().st_size - HEADER) / 4, frames - 48_000)
        self.assertEqual(browser.errors, [])

    def test_what_is_played_along_lies_where_it_was_played(self):
        """With the latency measured, the player's own sound recorded from bar to bar is the recording itself."""
        browser = self.browser()
        page = browser.page()
        self.opened(page, "/sessions/3/desk")
        page.evaluate(CABLE)
        page.get_by_role("button", name="Open", exact=True).click()
        page.wait_for_function(INPUT_IS_OPEN)
        page.evaluate("desk.player.setClick(0); for (const t of desk.facts.tracks) t.muted = t.name !== 'Double bass'; "
                      "for (const t of desk.facts.tracks) t.gain = 0; desk.player.mix()")  # fmt: skip
        page.get_by_role("button", name="Measure").click()
        page.get_by_text("ms there and back").wait_for()
        page.get_by_label("Bars", exact=True).fill("5")
        page.get_by_label("to", exact=True).fill("6")
        page.get_by_label("Name").fill("Along")
        page.get_by_role("button", name="Record", exact=True).click()
        page.wait_for_function("desk.facts.tracks.some((t) => t.name === 'Along')")
        quiet(page)
        tracks = {t["name"]: t["id"] for t in page.evaluate("desk.facts.tracks")}
        lines = page.evaluate(
            "[5, 7].map((b) => desk.grid.time[desk.grid.bar.findIndex((x, i) => x === b && desk.grid.beat[i] === 1)])"
        )
        folder = self.folder / "sessions" / "3"
        bass, rate = sf.read(folder / str(tracks["Double bass"]) / "source.wav", dtype="float64")
        along, _ = sf.read(folder / str(tracks["Along"]) / "source.wav", dtype="float64")
        first, last = (round(t * rate) for t in lines)
        self.assertEqual(len(along), last - first)
        at, off = place_of(along[rate // 4 : rate], bass)
        self.assertEqual(at, first + rate // 4)
        self.assertLess(off, 1e-3)
        # a second pass: one of the two sounds
        page.get_by_role("button", name="Record", exact=True).click()
        page.wait_for_function("desk.facts.tracks.some((t) => t.name === 'Along (2)')")
        silent = page.evaluate("desk.facts.tracks.filter((t) => t.name.startsWith('Along')).map((t) => t.muted)")
        self.assertEqual(silent, [True, False])
        page.get_by_role("button", name="Use Along: the others of its name fall silent").click()
        page.wait_for_function("desk.facts.tracks.find((t) => t.name === 'Along (2)').muted")
        self.assertEqual(browser.errors, [])
