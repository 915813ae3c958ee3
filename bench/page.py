"""How quick the page is: edit to redrawn grid, scrolling 24 tracks of 10 minutes, Space to sound."""

import tempfile
from pathlib import Path

import numpy as np

from bench import repairs
from tests.browser.studio import Browser, Studio, settled

RATE, MINUTES, TRACKS = 48_000, 10, 24

SCROLL = """async () => {
  const canvas = desk.canvas.lanes, box = canvas.getBoundingClientRect();
  const gaps = []; desk.frames.length = 0;
  let last = await new Promise(requestAnimationFrame);
  for (let i = 0; i < 300; i++) {
    const zoom = i % 60 === 59;
    canvas.dispatchEvent(new WheelEvent('wheel', {deltaX: zoom ? 0 : 40, deltaY: zoom ? (i % 120 === 59 ? -120 : 120) : 0,
      ctrlKey: zoom, clientX: box.left + 400, clientY: box.top + 80, cancelable: true}));
    const now = await new Promise(requestAnimationFrame);
    gaps.push(now - last); last = now;
  }
  return [gaps, desk.frames.slice()];
}"""

EDIT = """async (i) => {
  const begun = performance.now();
  await desk.editing.make({kind: 'nudge', beat: i, by: 0.001});
  await new Promise(requestAnimationFrame);
  return performance.now() - begun;
}"""

FOLD = """async () => {
  const took = [];
  for (let i = 0; i < 6; i++) {
    const begun = performance.now();
    await desk.fold.refresh();
    took.push(performance.now() - begun);
  }
  return took;
}"""

START = """async () => {
  const begun = performance.now();
  const at = desk.player.at;
  desk.player.play();
  while (!desk.player.playing || desk.player.at <= at + 128) await new Promise((r) => setTimeout(r, 1));
  const took = performance.now() - begun;
  await desk.player.pause();
  return took;
}"""


def tell(name: str, values, unit: str = "ms") -> None:
    print(
        f"{name:44s} median {np.median(values):7.1f} {unit}   p95 {np.percentile(values, 95):7.1f} {unit}", flush=True
    )


def make_big_session(folder: Path) -> int:
    """A session of 24 tracks of 10 minutes with a 1,000-bar map, put into the database directly."""
    import os
    import subprocess
    import sys

    script = f"""
import numpy as np, soundfile as sf
from pathlib import Path
from core.tempomap import TempoMap
from studio.desk.history import record
from studio.library.uploads import add_track
from core.analysis import analyse_sources
from studio.analysis.features import SessionStore, source_of
from studio.library.models import Session
session = Session.objects.create(title="Twenty-four tracks")
session.folder.mkdir(parents=True)
rng = np.random.default_rng(1)
n = {RATE * 60 * MINUTES}
envelope = np.exp(-(np.arange(n) % 7200) / 1500).astype(np.float32)
noise = rng.standard_normal(n).astype(np.float32)
for k in range({TRACKS}):
    path = session.folder / f"track {{k + 1}}.wav"
    sf.write(path, 0.2 * np.roll(noise, 997 * k) * np.roll(envelope, 300 * k), {RATE}, "PCM_16")
    track = add_track(session, path, path.name)
    list(analyse_sources([source_of(track)], SessionStore([track])))
beats = np.linspace(0.5, {60 * MINUTES} - 1, 4001) + rng.normal(0, 0.002, 4001)
record(session, TempoMap.from_beats(beats), "A thousand bars")
print("session", session.pk)
"""
    env = {**os.environ, "DIACHRON_DATA": str(folder)}
    root = Path(__file__).resolve().parents[1]
    subprocess.run([sys.executable, "manage.py", "migrate", "-v0"], cwd=root, env=env, check=True)
    out = subprocess.run(
        [sys.executable, "manage.py", "shell", "-v0", "-c", script],
        cwd=root,
        env=env,
        check=True,
        capture_output=True,
        text=True,
    )
    return int(out.stdout.split()[-1])


def run() -> None:
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as name:
        _repairs(Path(name))
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as name:
        folder = Path(name)
        pk = make_big_session(folder)
        studio, browser = Studio(folder).start(), Browser()
        try:
            page = browser.page()
            page.goto(f"{studio.url}/sessions/{pk}/desk")
            settled(page)
            page.wait_for_timeout(3000)
            page.evaluate("desk.view.set(60, 2048)")
            page.wait_for_timeout(3000)
            gaps, work = page.evaluate(SCROLL)
            tell(f"scroll and zoom, {TRACKS} tracks of {MINUTES} min: frame", gaps)
            tell("  of that our own drawing", work)
            page.wait_for_timeout(3000)  # what the scroll asked for has arrived
            edits = [page.evaluate(EDIT, 200 + 3 * i) for i in range(60)]
            tell("edit to redrawn grid, 1,000 bars", edits)
            page.evaluate("desk.fold.toggle()")
            page.wait_for_function("desk.fold.data")
            folds = [
                page.evaluate("i => (desk.fold.scroll = i * 40, desk.fold.draw(), desk.fold.took)", i)
                for i in range(40)
            ]
            tell("fold of 1,000 bars, one drawing", folds)
            whole = page.evaluate(FOLD)
            tell("  asked for, answered and drawn", whole)
            page.evaluate("desk.fold.toggle()")
            starts = []
            for i in range(12):
                page.evaluate("s => desk.player.seek(s)", 20.0 + 37 * i)
                page.wait_for_timeout(700)
                starts.append(page.evaluate(START))
            tell(f"Space to sound, {TRACKS} tracks", starts)
            cold = []
            for i in range(8):
                page.evaluate("s => desk.player.seek(s)", 500.0 - 41 * i)
                cold.append(page.evaluate(START))
            tell("  right after a jump", cold)
        finally:
            browser.close()
            studio.stop()


def _repairs(folder: Path) -> None:
    """Ten typical mistakes in the demo's map and the actions that put them right."""
    studio, browser = Studio(folder, demo=True).start(), Browser()
    try:
        page = browser.page()
        page.goto(f"{studio.url}/sessions/3/desk")
        settled(page)
        page.wait_for_function("document.body.dataset.doubts", timeout=60_000)
        for name, actions, spoiled, repaired in repairs.run(page):
            marks = ", ".join(f"{a:.2f} to {b:.2f}" for a, b in zip(spoiled, repaired, strict=True))
            print(f"repair: {name:32s} {actions} actions   beats and downbeats {marks}", flush=True)
    finally:
        browser.close()
        studio.stop()
