"""The page of a long recording: in the core, at the server and in Chromium."""

import json
import statistics
import tempfile
import time
from pathlib import Path

from playwright.sync_api import sync_playwright

from mastering.editing.pauses import find_pauses
from mastering.editing.retakes import find_retakes
from mastering.meters.measurement import measure
from sermovox.bench.tools import ROUNDS, Visitor, application, line, quiet, send_file, speech_recording, timed
from sermovox.ui.tests.running import CHROMIUM

_PORT = 8497
_CUTS = 300
ARGUMENTS = ["--no-sandbox", "--disable-background-networking", "--autoplay-policy=no-user-gesture-required"]
SCROLLED = """async () => {
  const scroller = document.querySelector("#scroller");
  const gaps = [];
  let last = performance.now();
  for (let frame = 0; frame < 400; frame += 1) {
    await new Promise(requestAnimationFrame);
    const now = performance.now();
    gaps.push(now - last);
    last = now;
    scroller.scrollTop += 40;
  }
  return gaps;
}"""


def tables() -> None:
    """Print the table of the page."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        _pauses(folder)
        long, short = speech_recording(folder, 180, "long.wav"), speech_recording(folder, 10, "short.wav")
        with application(folder / "data", _PORT) as visitor:
            quiet(visitor)
            keys = [brought_in(visitor, path) for path in (long, short)]
            _edits(visitor, keys[0])
            _in_chromium(visitor, *keys)


def _pauses(folder: Path) -> None:
    hour = speech_recording(folder, 60, "hour.wav")
    envelope = measure(hour).levels.envelope
    taken = [timed(lambda: find_pauses(envelope)) for _ in range(ROUNDS)]
    line("finding the pauses of 1 hour", f"{statistics.median(taken):.3f} s", "", "under 1.5 s")
    pauses = find_pauses(envelope)
    taken = [timed(lambda: find_retakes(hour, pauses)) for _ in range(ROUNDS)]
    line("looking for retakes in 1 hour", f"{statistics.median(taken):.1f} s", "", "at most 4 s")


def brought_in(visitor: Visitor, path: Path) -> int:
    """Bring a recording in and wait until its page is there; its key."""
    key = int(send_file(visitor, path))
    while visitor.send("GET", f"/recordings/{key}/waveform/", None).status != 200:
        time.sleep(0.2)
    while b'id="page-start"' not in visitor.get(f"/cutting/{key}/"):
        time.sleep(0.2)
    return key


def _edits(visitor: Visitor, key: int) -> None:
    pauses = json.loads(visitor.get(f"/cutting/{key}/pauses/"))
    inner = list(zip(pauses["starts"], pauses["ends"], strict=True))[1 : _CUTS + 1]
    strikes, cuts = [], []
    for _ in range(ROUNDS):
        strikes.append(_done(visitor, key, {"op": "marks", "spans": inner}))
        _done(visitor, key, {"op": "undo"})
        cuts.append(_done(visitor, key, {"op": "split", "cuts": [(start + end) // 2 for start, end in inner]}))
        _done(visitor, key, {"op": "undo"})
    line(f"striking out {_CUTS} stretches of 3 hours", f"{statistics.median(strikes):.0f} ms", "", "under 200 ms")
    line(f"cutting 3 hours into {_CUTS + 1} sections", f"{statistics.median(cuts):.0f} ms", "", "under 200 ms")
    _done(visitor, key, {"op": "marks", "spans": inner})


def _done(visitor: Visitor, key: int, values: dict) -> float:
    revision = json.loads(visitor.get(f"/cutting/{key}/state/"))["revision"]
    body = json.dumps({"revision": revision} | values).encode()
    return 1000 * timed(lambda: visitor.send("POST", f"/cutting/{key}/do/", body).read())


def _in_chromium(visitor: Visitor, long: int, short: int) -> None:
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        shown = [_shown(browser, visitor, long) for _ in range(5)]
        line("3 hours: from the address to the first lines", f"{statistics.median(shown):.0f} ms", "", "under 1000 ms")
        for per_line, words in ((0, "5 s"), (5, "30 s"), (8, "2 min")):
            page = opened(browser, visitor, long, per_line)
            page.wait_for_timeout(1500)
            gaps = page.evaluate(SCROLLED)[5:]
            slow = statistics.quantiles(gaps, n=20)[-1]
            line(
                f"3 hours with {_CUTS} marks, scrolled at {words} to a line: frames a second, 95th frame in 100",
                f"{1000 / statistics.mean(gaps):.0f}", f"{slow:.0f} ms", "at least 50",
            )  # fmt: skip
            page.context.close()
        heaps = {key: _heap_mb(browser, visitor, key) for key in (short, long)}
        ratio = f"{heaps[long] / heaps[short]:.2f}"
        line("memory of the page after scrolling 10 minutes", f"{heaps[short]:.1f} MB", "1", "")
        line("memory of the page after scrolling 3 hours", f"{heaps[long]:.1f} MB", ratio, "as much, but for marks")
        begun = [_begun(browser, visitor, long) for _ in range(5)]
        line("listening, from the key to the sound", f"{statistics.median(begun):.0f} ms", "", "under 300 ms")
        browser.close()


def opened(browser, visitor: Visitor, key: int, per_line: int):
    """The page of a recording in a browser of its own, once its first lines are shown."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=visitor.address)
    names = ("sermovox-lines", "sermovox-lines-words")
    context.add_cookies([{"name": name, "value": str(per_line), "url": visitor.address} for name in names])
    page = context.new_page()
    page.goto(f"/cutting/{key}/")
    page.wait_for_selector("#page[data-shown-in-ms]")
    return page


def _shown(browser, visitor: Visitor, key: int) -> int:
    page = opened(browser, visitor, key, 5)
    found = int(page.get_attribute("#page", "data-shown-in-ms"))
    page.context.close()
    return found


def _heap_mb(browser, visitor: Visitor, key: int) -> float:
    page = opened(browser, visitor, key, 0)
    page.evaluate(SCROLLED)
    tools = page.context.new_cdp_session(page)
    tools.send("HeapProfiler.collectGarbage")
    used = tools.send("Runtime.getHeapUsage")
    page.context.close()
    return (used["usedSize"] + used.get("backingStorageSize", 0)) / 1e6


def _begun(browser, visitor: Visitor, key: int) -> int:
    page = opened(browser, visitor, key, 5)
    for _ in range(40):
        page.keyboard.press("ArrowDown")
    page.keyboard.press("Space")
    page.wait_for_selector("#page[data-started-in-ms]")
    found = int(page.get_attribute("#page", "data-started-in-ms"))
    page.context.close()
    return found
