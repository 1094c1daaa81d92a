"""The words of an hour on its page in Chromium, and its proof sheet."""

import json
import statistics
import tempfile
import time
from pathlib import Path
from urllib.parse import urlencode

from playwright.sync_api import sync_playwright

from sermovox.bench.page import ARGUMENTS, CHROMIUM, SCROLLED, brought_in, opened
from sermovox.bench.tools import ROUNDS, Visitor, application, line, quiet
from sermovox.bench.words import long_take

_PORT = 8498
_MINUTES = 60


def tables() -> None:
    """Print the table of words on the page."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lines = long_take(folder / "take.wav", _MINUTES)
        with application(folder / "data", _PORT) as visitor:
            quiet(visitor)
            key = brought_in(visitor, folder / "take.wav")
            form = urlencode({"text": "\n".join(lines), "language": "en"}).encode()
            visitor.send("POST", f"/cutting/{key}/text/", form)
            began = time.monotonic()
            while json.loads(visitor.get(f"/cutting/{key}/words/"))["state"] != "heard":
                time.sleep(0.5)
            line("finding the words of 1 hour, by a worker", f"{time.monotonic() - began:.0f} s", "", "under 60 s")
            taken = [visitor.page_ms(f"/cutting/{key}/words/?known=") for _ in range(ROUNDS)]
            line("all words of 1 hour, to the page", f"{statistics.median(taken):.0f} ms", "", "")
            taken = [visitor.page_ms(f"/proof/{key}/") for _ in range(ROUNDS)]
            line("the proof sheet of 1 hour", f"{statistics.median(taken):.0f} ms", "", "")
            _in_chromium(visitor, key)


def _in_chromium(visitor: Visitor, key: int) -> None:
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        shown = []
        for _ in range(5):
            page = opened(browser, visitor, key, 0)
            shown.append(int(page.get_attribute("#page", "data-shown-in-ms")))
            page.context.close()
        line("1 hour: to the first lines with their words", f"{statistics.median(shown):.0f} ms", "", "under 1000 ms")
        page = opened(browser, visitor, key, 0)
        page.wait_for_timeout(2500)
        gaps = page.evaluate(SCROLLED)[5:]
        slow = statistics.quantiles(gaps, n=20)[-1]
        line(
            "1 hour with its words, scrolled at 5 s to a line: frames a second, 95th frame in 100",
            f"{1000 / statistics.mean(gaps):.0f}", f"{slow:.0f} ms", "at least 50",
        )  # fmt: skip
        browser.close()
