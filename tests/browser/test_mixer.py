"""The mixer by itself, rendered offline in the real browser: tracks, click and loop locked to one sample clock."""

import base64

import numpy as np

from tests.browser.studio import SCRIPTS, SharedDemoCase

RENDER = """async ({setup, frames, later}) => {
  const context = new OfflineAudioContext(2, frames, 48000);
  await context.audioWorklet.addModule(SCRIPTS + 'desk/mixer.js');
  const node = new AudioWorkletNode(context, 'mixer', {numberOfInputs: 0, outputChannelCount: [2]});
  node.connect(context.destination);
  const told = [];
  node.port.onmessage = (e) => told.push(e.data);
  const floats = (text) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0)).buffer;
  const typed = (m) => ({...m, data: m.data && floats(m.data), sounds: m.sounds?.map((s) => new Float32Array(s))});
  for (const m of setup) node.port.postMessage(Object.fromEntries(Object.entries(typed(m)).filter(([, v]) => v !== undefined)));
  // a message after the others has been taken in once it is answered
  await new Promise((done) => { const wait = () => told.length ? done() : setTimeout(wait, 5); wait(); });
  for (const [at, m] of later) context.suspend(at / 48000).then(async () => {
    node.port.postMessage(Object.fromEntries(Object.entries(typed(m)).filter(([, v]) => v !== undefined)));
    await new Promise((r) => setTimeout(r, 60)); context.resume(); });
  const out = await context.startRendering();
  let text = "";
  for (const channel of [0, 1]) for (const byte of new Uint8Array(out.getChannelData(channel).buffer)) text += String.fromCharCode(byte);
  return btoa(text);
}""".replace("SCRIPTS", SCRIPTS)
SIZE, TOTAL = 1024, 4000


def text_of(samples):
    """Samples for the page: numbers one by one would take seconds to get there."""
    return base64.b64encode(np.asarray(samples, dtype=np.float32)).decode()


class Mixer(SharedDemoCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.page = cls.browser.page()
        cls.page.goto(f"{cls.studio.url}/archives")  # any page may load the scripts

    def setUp(self):
        rng = np.random.default_rng(6)
        self.mono = rng.uniform(-0.2, 0.2, TOTAL).astype(np.float32)
        self.stereo = rng.uniform(-0.2, 0.2, (2, TOTAL)).astype(np.float32)
        self.sound = [[0.5, 0.25, 0.125]]

    def blocks(self):
        padded = [np.pad(x, (0, -TOTAL % SIZE)) for x in (self.mono, *self.stereo)]
        for n in range(len(padded[0]) // SIZE):
            part = [x[n * SIZE : (n + 1) * SIZE] for x in padded]
            yield {"do": "block", "number": n, "data": text_of(np.concatenate(part))}

    def render(self, *more, frames=4096, later=(), blocks=None, clicks=()):
        setup = [
            {
                "do": "layout",
                "tracks": [{"channels": 1, "gain": [1, 1]}, {"channels": 2, "gain": [0.5, 0.5]}],
                "size": SIZE,
                "total": TOTAL,
            },
            *(list(self.blocks()) if blocks is None else blocks),
            {"do": "clicks", "samples": list(clicks), "kinds": [0] * len(clicks), "sounds": self.sound},
            {"do": "clickLevel", "level": 1},
            *more,
        ]
        out = self.page.evaluate(RENDER, {"setup": setup, "frames": frames, "later": list(later)})
        return np.frombuffer(base64.b64decode(out), dtype=np.float32).reshape(2, -1)

    def expected(self, samples):
        """What the mix of those samples of the take has to be."""
        i = np.asarray(samples)
        return self.mono[i] + 0.5 * self.stereo[:, i]

    def test_tracks_are_summed_to_the_sample_across_blocks(self):
        out = self.render({"do": "play", "at": 0})
        np.testing.assert_allclose(out[:, :TOTAL], self.expected(range(TOTAL)), atol=1e-6)
        self.assertFalse(out[:, TOTAL:].any())

    def test_a_click_starts_on_its_sample_anywhere_in_a_block(self):
        at = [0, 1, 127, 128, 1023, 1024, 2500, 3999]
        out = self.render({"do": "play", "at": 0}, clicks=at)
        want = self.expected(range(TOTAL))
        rest = out[:, :TOTAL] - want
        hit = np.zeros(TOTAL + 3)
        for s in at:
            hit[s : s + 3] += self.sound[0]
        np.testing.assert_allclose(rest, np.tile(hit[:TOTAL], (2, 1)), atol=1e-6)

    def test_a_loop_is_seamless_to_the_sample(self):
        out = self.render({"do": "setLoop", "loop": [1000, 1777]}, {"do": "play", "at": 1500}, clicks=[1000])
        order = [*range(1500, 1777), *(list(range(1000, 1777)) * 5)][:4000]
        want = self.expected(order)
        rest = out[:, :4000] - want
        starts = np.flatnonzero(np.array(order) == 1000)
        self.assertEqual(np.flatnonzero(rest[0] > 0.4).tolist(), starts.tolist())

    def test_seek_lands_on_the_sample(self):
        out = self.render({"do": "play", "at": 2345}, frames=512)
        np.testing.assert_allclose(out, self.expected(range(2345, 2345 + 512)), atol=1e-6)

    def test_where_a_block_is_missing_all_hold_still_together(self):
        every = list(self.blocks())
        out = self.render(
            {"do": "play", "at": 0}, blocks=[every[0], *every[2:]], clicks=[1030], later=[(2048, every[1])], frames=4096
        )
        np.testing.assert_allclose(out[:, :1024], self.expected(range(1024)), atol=1e-6)
        self.assertFalse(out[:, 1024:2048].any())  # held
        went_on = out[:, 2048:4096] - self.expected(range(1024, 1024 + 2048))
        self.assertEqual(np.flatnonzero(went_on[0] > 0.4).tolist(), [6])  # the click at 1030 too

    def test_a_count_in_sounds_before_the_take_and_the_take_follows_on_its_sample(self):
        lead = {"samples": [0, 300], "kinds": [0, 0], "length": 700}
        out = self.render({"do": "play", "at": 2000, "lead": lead}, frames=1500)
        self.assertEqual(np.flatnonzero(out[0, :700] > 0.3).tolist(), [0, 300])
        np.testing.assert_allclose(out[:, 700:1500], self.expected(range(2000, 2800)), atol=1e-6)

    def test_a_muted_track_is_gone(self):
        out = self.render({"do": "gains", "gains": [[0, 0], [0.5, 0.5]]}, {"do": "play", "at": 0})
        # the level glides for some milliseconds, then only the other is left
        np.testing.assert_allclose(out[:, 3500:TOTAL], 0.5 * self.stereo[:, 3500:], atol=1e-5)

    def test_slow_playback_keeps_the_pitch_and_takes_its_time(self):
        rate, seconds = 48_000, 0.5
        tone = 0.5 * np.sin(2 * np.pi * 440 * np.arange(int(rate * seconds)) / rate).astype(np.float32)
        size = 8192
        padded = np.pad(tone, (0, -len(tone) % size))
        blocks = [
            {"do": "block", "number": n, "data": text_of(padded[n * size : (n + 1) * size])}
            for n in range(len(padded) // size)
        ]
        layout = {"do": "layout", "tracks": [{"channels": 1, "gain": [1, 1]}], "size": size, "total": len(tone)}
        for pace in (0.5, 0.25):
            frames = int(len(tone) / pace) + 6000
            out = self.render(
                {"do": "setPace", "pace": pace}, {"do": "play", "at": 0}, frames=frames, blocks=[layout, *blocks]
            )[0]
            sounding = np.flatnonzero(np.abs(out) > 0.01)
            self.assertAlmostEqual((sounding[-1] - sounding[0]) / rate, seconds / pace, delta=0.06)
            part = out[4000 : int(0.8 * len(tone) / pace)]
            spectrum = np.abs(np.fft.rfft(part * np.hanning(len(part))))
            self.assertAlmostEqual(np.argmax(spectrum) * rate / len(part), 440, delta=rate / len(part))
            # no seams: nothing steeper than the tone itself
            self.assertLess(np.abs(np.diff(part)).max(), 1.3 * 0.5 * 2 * np.pi * 440 / rate)

    # ---- the running order

    TURN = {"times": 1, "hold": False, "pace": 1}

    def tone(self):
        """A take of one steady tone, whose steepness is known, in blocks of 8192."""
        rate, size = 48_000, 8192
        x = (0.5 * np.sin(2 * np.pi * 331 * np.arange(48_000) / rate)).astype(np.float32)
        padded = np.pad(x, (0, -len(x) % size)).reshape(-1, size)
        layout = {"do": "layout", "tracks": [{"channels": 1, "gain": [1, 1]}], "size": size, "total": len(x)}
        return x, [layout, *({"do": "block", "number": n, "data": text_of(b)} for n, b in enumerate(padded))]

    def test_an_order_plays_each_section_to_the_sample_of_its_bar_lines(self):
        x, blocks = self.tone()
        order = [
            {**self.TURN, "start": 4800, "end": 9600, "bars": [7200, 9600], "times": 2},
            {**self.TURN, "start": 30_000, "end": 33_000, "bars": [33_000]},
            {**self.TURN, "start": 33_000, "end": 36_000, "bars": [36_000]},  # goes straight on: no seam at all
        ]
        out = self.render({"do": "follow", "order": order, "item": 0}, frames=20_000, blocks=blocks)[0]
        fade = 240
        first = x[4800:9600]
        np.testing.assert_allclose(out[: 4800 - fade], first[:-fade], atol=1e-6)
        np.testing.assert_allclose(out[4800 : 9600 - fade], first[:-fade], atol=1e-6)  # the seam lies on the line
        np.testing.assert_allclose(out[9600:15_600], x[30_000:36_000], atol=1e-6)
        self.assertFalse(out[15_600:].any())

    def test_at_a_seam_nothing_is_steeper_than_the_sound_itself(self):
        x, blocks = self.tone()
        order = [{**self.TURN, "start": 4801, "end": 9607, "bars": [9607], "hold": True}]
        out = self.render({"do": "follow", "order": order, "item": 0}, frames=24_000, blocks=blocks)[0]
        self.assertLess(np.abs(np.diff(out)).max(), 1.5 * np.abs(np.diff(x)).max())
        self.assertGreater(np.abs(out[20_000:]).max(), 0.4)  # it still goes round
        loop = self.render(
            {"do": "setLoop", "loop": [4801, 9607]}, {"do": "play", "at": 4801}, frames=24_000, blocks=blocks
        )[0]
        self.assertLess(np.abs(np.diff(loop)).max(), 1.5 * np.abs(np.diff(x)).max())

    def test_a_held_section_leaves_at_the_next_bar_line_after_its_release(self):
        x, blocks = self.tone()
        order = [
            {**self.TURN, "start": 0, "end": 9600, "bars": [2400, 4800, 7200, 9600], "hold": True},
            {**self.TURN, "start": 24_000, "end": 28_000, "bars": [28_000]},
        ]
        # released at sample 12,032, in the second round 2432 samples in: left at the line at 4800
        out = self.render(
            {"do": "follow", "order": order, "item": 0},
            frames=20_480,
            blocks=blocks,
            later=[(12_032, {"do": "release"})],
        )[0]
        np.testing.assert_allclose(out[9600 : 9600 + 4800 - 240], x[: 4800 - 240], atol=1e-6)
        np.testing.assert_allclose(out[14_400:18_400], x[24_000:28_000], atol=1e-6)

    def test_another_section_can_be_queued(self):
        x, blocks = self.tone()
        order = [{**self.TURN, "start": 9600 * k, "end": 9600 * k + 4800, "bars": [9600 * k + 4800]} for k in range(4)]
        out = self.render(
            {"do": "follow", "order": order, "item": 0}, {"do": "queue", "item": 3}, frames=12_000, blocks=blocks
        )[0]
        np.testing.assert_allclose(out[4800 : 9600 - 240], x[28_800 : 33_600 - 240], atol=1e-6)
        self.assertFalse(out[9600:].any())

    def test_a_section_has_its_own_playing_tempo(self):
        _x, blocks = self.tone()
        for pace in (0.8, 1.25):
            order = [{**self.TURN, "start": 0, "end": 24_000, "bars": [24_000], "pace": pace}]
            out = self.render({"do": "follow", "order": order, "item": 0}, frames=40_000, blocks=blocks)[0]
            sounding = np.flatnonzero(np.abs(out) > 0.01)
            self.assertAlmostEqual(sounding[-1], 24_000 / pace, delta=1200)
            part = out[2000 : int(20_000 / pace)]
            spectrum = np.abs(np.fft.rfft(part * np.hanning(len(part))))
            self.assertAlmostEqual(np.argmax(spectrum) * 48_000 / len(part), 331, delta=48_000 / len(part))

    def test_click_left_and_tracks_right(self):
        out = self.render({"do": "setEars", "apart": True}, {"do": "play", "at": 0}, clicks=[500])
        self.assertEqual(np.flatnonzero(np.abs(out[0, :TOTAL]) > 1e-6).tolist(), [500, 501, 502])
        np.testing.assert_allclose(out[1, :TOTAL], self.expected(range(TOTAL)).mean(axis=0), atol=1e-6)

    def test_a_slow_loop_clicks_once_a_round_exactly_on_its_line(self):
        # the click stands on the loop's start and its end: as the bar line that both are, it sounds once
        for pace in (0.5, 0.25):
            out = self.render(
                {"do": "gains", "gains": [[0, 0], [0, 0]]},
                {"do": "setLoop", "loop": [1000, 2000]},
                {"do": "setPace", "pace": pace},
                {"do": "play", "at": 1000},
                frames=12_288,
                clicks=[1000, 2000],
            )
            heard = np.flatnonzero(out[0, 1500:] > 0.4) + 1500  # past the glide of the levels
            self.assertEqual(set(np.diff(heard)), {round(1000 / pace)})

    def test_a_count_in_is_as_slow_as_what_follows(self):
        lead = {"samples": [0, 300], "kinds": [0, 0], "length": 700}
        out = self.render({"do": "setPace", "pace": 0.5}, {"do": "play", "at": 2000, "lead": lead}, frames=1400)
        self.assertEqual(np.flatnonzero(out[0] > 0.3).tolist(), [0, 600])
