"""The listening desk in Chromium: how soon a stretch is ready, sounds, and is switched."""

import statistics
import tempfile
import time
from pathlib import Path
from urllib.parse import urlencode

from playwright.sync_api import sync_playwright

from sermovox.bench.page import ARGUMENTS, CHROMIUM
from sermovox.bench.tools import ROUNDS, application, line, quiet

_PORT = 8496
_SECTION, _OUTLET = 5, "audiobook-retail"
_TRIALS = (192, 128, 64, 32)
_TIMES = 12


def tables() -> None:
    """Print the table of the listening desk."""
    with tempfile.TemporaryDirectory() as name, application(Path(name) / "data", _PORT) as visitor:
        quiet(visitor)
        address = f"/listening/sections/{_SECTION}/"
        for kbps in _TRIALS:
            visitor.send("POST", f"{address}try/", urlencode({"outlet": _OUTLET, "kbps": kbps}).encode())
        with sync_playwright() as driver:
            browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
            page = browser.new_page()
            ready = [_ready_ms(page, f"{visitor.address}{address}?outlet={_OUTLET}") for _ in range(ROUNDS)]
            versions = page.locator(".version").count()
            line(f"8 s of {versions} versions, ready to be heard", f"{statistics.median(ready):.0f} ms", "", "")
            started, switched = [], []
            for number in range(_TIMES):
                page.keyboard.press(" ")
                page.wait_for_function("document.querySelector('#desk').dataset.startedMs")
                started.append(_told_ms(page, "started"))
                page.keyboard.press(str(2 + number % (versions - 1)))
                page.wait_for_timeout(120)
                switched.append(_told_ms(page, "switched"))
                page.keyboard.press(" ")
            browser.close()
        line("pressed, and heard by the clock of the sound", *_middle_and_most(started), "under 300 ms")
        line("switched, and nothing but the other version heard", *_middle_and_most(switched), "under 20 ms")


def _ready_ms(page, address: str) -> float:
    page.goto(address)
    began = time.perf_counter()
    page.wait_for_selector("#desk[data-ready]")
    return 1000 * (time.perf_counter() - began)


def _told_ms(page, what: str) -> float:
    return float(page.get_attribute("#desk", f"data-{what}-ms") or "nan")


def _middle_and_most(taken: list[float]) -> tuple[str, str]:
    return f"{statistics.median(taken):.0f} ms", f"at most {max(taken):.0f} ms"
