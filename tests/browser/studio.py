"""A real studio for browser tests: the serve command in a process of its own, and Chromium in front of it."""

import functools
import os
import shutil
import signal
import socket
import sys
import tempfile
import time
import urllib.request
from multiprocessing.util import Finalize
from pathlib import Path
from unittest import TestCase

import numpy as np
import playwright.sync_api
import psutil

from tests.browser import forked
from tests.shared import demo_studio

CHROMIUM = "/usr/bin/chromium"
#: Seconds until a wait is given up. Nothing takes so long, but where other work holds up the machine.
PATIENCE = 300
#: What Chromium loads with each window for its own address bar, three quarters of what a page costs; and what Playwright
#: leaves out itself, as of two such lists the last one counts.
WITHOUT = [
    "WebUIOmniboxPopup",
    "WebUIOmniboxAimPopup",
    "WebUIOmniboxFullPopup",
    "PreloadTopChromeWebUI",
    "AimEnabled",
    "AvoidCorsURLLoaderRestartOnRedirect",
    "AvoidUnnecessaryBeforeUnloadCheckSync",
    "DestroyProfileOnBrowserClose",
    "HttpsFirstBalancedModeAutoEnable",
    "HttpsUpgrades",
    "LensOverlay",
    "MediaRouter",
    "NetworkTimeServiceQuerying",
    "OptimizationHints",
    "PaintHolding",
    "PreconnectToSearch",
    "TcpPortRandomizationWin",
    "ThirdPartyStoragePartitioning",
]
FLAGS = [
    "--no-sandbox",
    "--disable-quic",
    "--disable-background-networking",
    "--autoplay-policy=no-user-gesture-required",
    # there is no graphics card to draw with: without the process that stands in for one a page costs a quarter less
    "--disable-gpu",
    "--in-process-gpu",
    f"--disable-features={','.join(WITHOUT)}",
]


def free_port():
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


class Studio:
    """``serve`` on a folder of its own; can be killed and started again on the same folder."""

    def __init__(self, folder: Path, demo=False):
        self.folder, self.demo, self.port = folder, demo, free_port()
        self.process = None

    @property
    def url(self):
        return f"http://127.0.0.1:{self.port}"

    def start(self):
        if self.demo and not (self.folder / "demo-made").exists():
            shutil.copytree(demo_studio(), self.folder, dirs_exist_ok=True)
        arguments = ["serve", "--port", str(self.port), "--workers", "1", *(["--demo"] if self.demo else [])]
        log = self.folder / "log.txt"
        self.process = forked.start(arguments, {"DIACHRON_DATA": str(self.folder)}, log)
        until = time.monotonic() + PATIENCE
        while time.monotonic() < until:
            try:
                urllib.request.urlopen(self.url, timeout=2)
                return self
            except OSError:
                if not self.process.is_running():
                    break
                time.sleep(0.2)
        raise RuntimeError(log.read_text())

    def worker(self):
        """The process id of the worker, or None between two of them."""
        for task in Path(f"/proc/{self.process.pid}/task").iterdir():
            for child in (task / "children").read_text().split():
                try:
                    if "worker" in Path(f"/proc/{child}/cmdline").read_text():
                        return int(child)
                except FileNotFoundError:
                    continue
        return None

    def kill_worker(self):
        until = time.monotonic() + PATIENCE
        while not (pid := self.worker()):
            if time.monotonic() > until:
                raise RuntimeError("there is no worker")
            time.sleep(0.05)
        os.kill(pid, signal.SIGKILL)
        return pid

    def kill(self):
        self.process.kill()
        self.process.wait()

    def stop(self):
        if self.process and self.process.is_running():
            self.process.terminate()
            try:
                self.process.wait(timeout=12)
            except psutil.TimeoutExpired:
                self.kill()


class Browser:
    """Headless Chromium; pages fail the test on any script error. One at a time: Playwright has one driver a thread, and
    one that lives for many classes gets slower and slower."""

    def __init__(self, *flags):
        self.play = playwright.sync_api.sync_playwright().start()
        self.chromium = self._started([*FLAGS, *flags])
        self.errors, self.one = [], None

    def _started(self, flags):
        """Chromium itself crashes now and then while it starts, before it has seen a page: then it is started again."""
        for attempts_left in (2, 1, 0):
            try:
                return self.play.chromium.launch(executable_path=CHROMIUM, args=flags)
            except playwright.sync_api.Error as crash:
                if not attempts_left:
                    self.play.stop()
                    raise
                print(f"Chromium did not start, once more: {crash.message[:300]}", file=sys.stderr)

    def page(self, width=1280, height=800, strict=False):
        # Playwright's waiting for an expression is an eval, which the pages' policy forbids; ``strict`` leaves it on
        return self.watched(self.chromium.new_page(viewport={"width": width, "height": height}, bypass_csp=not strict))

    def kept(self):
        """The same page again and again."""
        if self.one is None or self.one.is_closed():
            self.one = self.page()
        self.one.set_viewport_size({"width": 1280, "height": 800})
        return self.one

    def watched(self, page):
        """A page of any context, whose errors and requests are counted."""
        page.add_init_script(COUNT_REQUESTS)
        page.on("pageerror", lambda e: self.errors.append(e.stack or str(e)))
        # told by the browser: to be called at each response would cost a fifth of a page
        page.on("console", self._missing)
        page.set_default_timeout(1000 * PATIENCE)
        return page

    def _missing(self, message):
        """What is not there, and scripts that cannot be loaded: no page error, but nothing works without them."""
        url = message.location.get("url", "")
        if "Failed to load resource" in message.text and ("404" in message.text or url.endswith(".js")):
            self.errors.append(f"{url} is missing")

    def close(self):
        self.chromium.close()
        self.play.stop()


#: The address below which a page's scripts are, as an expression in it.
SCRIPTS = "document.querySelector('script[src$=\"studio/forms.js\"]').src.replace('studio/forms.js', '')"
#: Counts requests under way, so that a test can wait for what they bring.
COUNT_REQUESTS = """(() => {
  const state = (globalThis.requests = { open: 0, since: performance.now() });
  const begin = () => { state.open += 1; };
  const end = () => { state.open -= 1; state.since = performance.now(); };
  const { fetch } = globalThis;
  globalThis.fetch = async (...all) => {
    begin();
    try {
      const response = await fetch(...all);
      response.clone().arrayBuffer().then(end, end); // the body comes after the headers, or is dropped
      return response;
    } catch (error) { end(); throw error; }
  };
  const { send } = XMLHttpRequest.prototype;
  XMLHttpRequest.prototype.send = function (...all) { begin(); this.addEventListener("loadend", end); return send.apply(this, all); };
})()"""
#: Resolves once no request is under way, none ended a moment ago, and the desk has not drawn for a moment: at once would
#: be too soon, as pages gather events for up to 100 ms before they ask.
QUIET = """async (patience) => {
  const begun = performance.now();
  let since = begun, drawn;
  for (;;) {
    await new Promise((next) => requestAnimationFrame(next));
    const now = performance.now(), { desk } = globalThis;
    if (now - begun > 1000 * patience) throw new Error("the page does not come to rest");
    if (requests.open || desk?.asked || desk?.unfinished || desk?.drawn !== drawn) since = now;
    drawn = desk?.drawn;
    if (now - Math.max(since, requests.since) > 120) return;
  }
}"""


#: Makes an empty session; its key and its address.
NEW_SESSION = """() => fetch('/sessions/new', { method: 'POST', body: JSON.stringify({ title: 'Recorded' }),
  headers: { 'X-CSRFToken': document.cookie.match(/csrftoken=([^;]+)/)[1], 'Content-Type': 'application/json' } })
  .then((r) => r.json())"""
#: To open an input may load the page again, at the input's rate: for a moment there is no desk.
INPUT_IS_OPEN = "globalThis.desk?.recording?.input.isOpen"


def until(page, expression):
    """Wait until an expression is true in the page, asking from here: a page that keeps to its own policy does not let
    Playwright ask again from inside."""
    gives_up = time.monotonic() + PATIENCE
    while not page.evaluate(expression):
        if time.monotonic() > gives_up:
            raise TimeoutError(f"never true: {expression}")
        page.wait_for_timeout(30)


def quiet(page):
    """Wait until everything asked for has come and is drawn."""
    page.evaluate(QUIET, PATIENCE)


def settled(page):
    """Wait until the page is ready and has drawn what it has."""
    page.wait_for_selector("body[data-ready=yes]")
    quiet(page)


def load_anew(page, url):
    """Load a page though it may be there already: to go to another place on it (after #) would load nothing."""
    if page.url.partition("#")[0] == url.partition("#")[0]:
        page.evaluate("(url) => history.replaceState(null, '', url)", url)
        page.reload()  # a third less work than by way of an empty page
    else:
        page.goto(url)


@functools.cache
def _shared():
    """One studio for all classes of this process that leave the sessions as they found them."""
    folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
    studio = Studio(Path(folder.name), demo=True).start()

    def end():
        studio.stop()
        folder.cleanup()

    Finalize(None, end, exitpriority=10)  # test processes are forked: they know no atexit
    return folder, studio


class SharedDemoCase(TestCase):
    """The demo sessions and a browser, for tests that take back what they change; no page may throw an error."""

    @classmethod
    def setUpClass(cls):
        _, cls.studio = _shared()
        cls.browser = Browser()

    @classmethod
    def tearDownClass(cls):
        cls.browser.close()

    def fresh(self, address="/sessions/3/desk"):
        """A page as somebody has it who was never here. It is one page for all tests: a new one costs seconds."""
        page = self.browser.kept()
        url = self.studio.url + address
        if page.url.startswith(self.studio.url):
            page.evaluate("localStorage.clear(); sessionStorage.clear()")
        load_anew(page, url)
        if "/desk" in address:
            settled(page)
        return page

    def edited(self, act):
        """The beats' times once ``act`` has led to another step."""
        step = self.page.evaluate("desk.step")
        act()
        self.page.wait_for_function(f"desk.step !== {step}")
        return np.array(self.page.evaluate("desk.grid.time"))
