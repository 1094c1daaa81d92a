"""The application as a user runs it: server and workers as processes of their own, and a real browser."""

import atexit
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from contextlib import ExitStack, contextmanager
from functools import cache
from pathlib import Path
from unittest import SkipTest, TestCase

from playwright.sync_api import Browser, expect, sync_playwright

from sermovox.faults.harm import processes_of
from sermovox.tests import kept

CHROMIUM = next(
    (path for path in ("/usr/bin/chromium-headless-shell", "/usr/bin/chromium") if Path(path).exists()),
    "/usr/bin/chromium",
)
"""Without the parts that draw windows where that is there: it starts in a quarter of the time."""
_AXE = Path(__file__).parent / "vendor" / "axe.min.js"
ARGUMENTS = [
    "--no-sandbox",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
    "--autoplay-policy=no-user-gesture-required",
]

# What has the focus, whether it takes room on the page, and whether it or the label around it is set off.
_FOCUSED = """() => {
    const focused = document.activeElement;
    if (!focused || focused === document.body) return null;
    const shown = focused.closest("label") ?? focused;
    const box = shown.getBoundingClientRect();
    // The parts of a day are set off by the browser.
    const set_off = focused.type === "date" || [focused, shown].map((each) => getComputedStyle(each)).some(
        (style) => (style.outlineStyle !== "none" && parseFloat(style.outlineWidth) > 0) || style.boxShadow !== "none");
    return { what: focused.outerHTML.slice(0, 160), there: box.width > 2 && box.height > 2, set_off };
}"""

_LEAST_PX = 14
_SMALL = f"""() => {{
    const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
    const small = [];
    while (walker.nextNode()) {{
        const element = walker.currentNode.parentElement;
        const shown = walker.currentNode.data.trim() && element.checkVisibility();
        if (!shown || element.closest("script, option")) continue;
        const size = parseFloat(getComputedStyle(element).fontSize);
        if (size < {_LEAST_PX} - 0.01) small.push(`${{size}} px: ${{walker.currentNode.data.trim().slice(0, 40)}}`);
    }}
    return [...new Set(small)].slice(0, 8);
}}"""

# A busy machine of two cores is given time; what never happens fails all the same.
expect.set_options(timeout=15000)


@contextmanager
def in_a_browser():
    """A real browser, for as long as it is wanted."""
    if not Path(CHROMIUM).exists():
        raise SkipTest("Chromium is not installed")
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        yield browser
        browser.close()


def brought_in() -> Path:
    """A data folder with the demonstration in it, its files made: worked off once, and copied for each application."""
    return kept.kept("demonstration", kept.application(), _bring_in) / "data"


def _bring_in(folder: Path) -> None:
    data = folder / "data"
    code = "import django; django.setup(); from django.core.management import call_command as call; "
    code += "call('migrate', verbosity=0); call('load_demo'); "
    code += "call('db_worker', queue_name='*', batch=True, startup_delay=False, reload=False, verbosity=0)"
    environment = os.environ | {"SERMOVOX_DATA": str(data), "DJANGO_SETTINGS_MODULE": "sermovox.settings"}
    subprocess.run([sys.executable, "-c", code], env=environment, check=True)


def _free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return free.getsockname()[1]


class Running:
    """The demonstration on a free port with a data folder of its own."""

    def __init__(self):
        self.data = Path(tempfile.mkdtemp(prefix="sermovox-"))
        shutil.copytree(brought_in(), self.data, dirs_exist_ok=True)
        self.port, self.stand_in_port = _free_port(), _free_port()
        self.address = f"http://127.0.0.1:{self.port}"
        self._log = (self.data / "log").open("w+")
        self.process = None
        self.start()

    def start(self) -> None:
        command = [sys.executable, "-m", "sermovox.cli", "start", "--demo", "--port", str(self.port), "--workers", "2"]
        environment = os.environ | {"SERMOVOX_DATA": str(self.data)}
        environment["SERMOVOX_STAND_IN_PORT"] = str(self.stand_in_port)
        self.process = subprocess.Popen(command, env=environment, stdout=self._log, stderr=subprocess.STDOUT)
        ready = self.log().count("is ready at")
        deadline = time.monotonic() + 90
        while self.log().count("is ready at") == ready:
            if self.process.poll() is not None or time.monotonic() > deadline:
                self.process.kill()
                self.process.wait()
                raise RuntimeError(f"It did not start:\n{self.log()}")
            time.sleep(0.1)

    def await_stand_ins(self) -> None:
        """Until the station's server can be called: it begins beside the application, which does not wait for it."""
        deadline = time.monotonic() + 90
        while True:
            with socket.socket() as caller:
                if caller.connect_ex(("127.0.0.1", self.stand_in_port)) == 0:
                    return
            if time.monotonic() > deadline:
                raise RuntimeError(f"The stand-ins did not start:\n{self.log()}")
            time.sleep(0.1)

    def stop(self) -> int:
        self.process.send_signal(signal.SIGTERM)
        return self.process.wait(30)

    def end(self) -> None:
        if self.process.poll() is None:
            self.stop()
        self._log.close()
        shutil.rmtree(self.data, ignore_errors=True)

    def log(self) -> str:
        return (self.data / "log").read_text()

    def processes(self, module: str) -> list[int]:
        """The living processes of this application that run a module."""
        return processes_of(self.data, module)


_ENDING = ExitStack()


@cache
def running_for_all() -> Running:
    """One application for all classes of this process whose tests leave it as it was, or only add to it."""
    running = Running()
    _ENDING.callback(running.end)
    return running


@cache
def browser_for_all() -> Browser:
    """One browser for all classes of this process."""
    driver = sync_playwright().start()
    _ENDING.callback(driver.stop)
    browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
    _ENDING.callback(browser.close)
    return browser


def end_all() -> None:
    """End what the classes of this process have in common."""
    _ENDING.close()
    running_for_all.cache_clear()
    browser_for_all.cache_clear()


# For a process whose tests are not spread over others.
atexit.register(end_all)


class BrowserTestCase(TestCase):
    """A running application and one browser for all tests of a class; a fresh page for each."""

    in_a_browser = True
    running: Running

    @classmethod
    def begin_running(cls) -> None:
        cls.running = running_for_all()

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        if not Path(CHROMIUM).exists():
            raise SkipTest("Chromium is not installed")
        cls.begin_running()
        cls.browser = browser_for_all()

    def setUp(self):
        self.told_before = len(self.running.log())
        self.page = self.new_page()

    def new_page(self, **options):
        context = self.browser.new_context(base_url=self.running.address, accept_downloads=True, **options)
        self.addCleanup(context.close)
        context.set_default_timeout(20000)
        page = context.new_page()
        self.troubles = []
        page.on("pageerror", lambda error: self.troubles.append(str(error)))
        page.on("request", self._stays_here)
        return page

    def assert_accessible(self, page) -> None:
        """No serious fault for those who see, hear or move differently: all rules by light, colours by dark as well."""
        page.add_script_tag(content=_AXE.read_text())
        for scheme, only in (("light", ""), ("dark", ", runOnly: ['color-contrast']")):
            # Without motion, so that no colour is caught on its way to another.
            page.emulate_media(color_scheme=scheme, reduced_motion="reduce")
            expect(page.locator("html")).to_have_attribute("data-bs-theme", scheme)
            faults = page.evaluate(f"axe.run({{ resultTypes: ['violations']{only} }})")["violations"]
            grave = [
                (fault["id"], [node["target"] for node in fault["nodes"]][:3])
                for fault in faults
                if fault["impact"] in ("serious", "critical")
            ]
            self.assertEqual(grave, [], f"{page.url} in {scheme}")
        self.assertEqual(page.evaluate(_SMALL), [], f"{page.url} has type that is smaller than {_LEAST_PX} px")
        page.emulate_media(color_scheme="light", reduced_motion="no-preference")

    def assert_focus_is_seen(self, page, *, most: int = 60) -> None:
        """Going through a page by Tab, what has the focus is on the page and set off from what has not."""
        page.evaluate("document.activeElement.blur()")
        for _ in range(most):
            page.keyboard.press("Tab")
            told = page.evaluate(_FOCUSED)
            if told is None:
                return
            self.assertEqual((told["there"], told["set_off"]), (True, True), f"{page.url}: {told['what']}")

    def _stays_here(self, request) -> None:
        if not request.url.startswith((self.running.address, "data:", "blob:")):
            self.troubles.append(f"asked for {request.url}")

    def tearDown(self):
        self.assertEqual(self.troubles, [], "no script fails and nothing is fetched from elsewhere")
        self.assertNotIn("Traceback", self.running.log()[self.told_before :])
