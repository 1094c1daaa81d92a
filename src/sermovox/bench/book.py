"""A whole book in the application: brought in, its levels looked at, and all of it made for one outlet in mono."""

import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

from sermovox.bench.core import bare_lame
from sermovox.bench.outlets import begun, bring_in, one_run
from sermovox.bench.tools import RATE_HZ, ROUNDS, Visitor, application, line, quiet, seconds, speech_recording, timed

_PORT = 8494
_SECTIONS = 71
_SECTION_S = 608
_OUTLET = "volunteer-archive"


def tables() -> None:
    """Print the table of a book of 71 sections and 12 hours, in stereo; takes 16 GB of the disk meanwhile."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        paths = _book(folder)
        with application(folder / "data", _PORT) as visitor:
            quiet(visitor)
            production = begun(visitor)
            began = time.perf_counter()
            sections = bring_in(visitor, production, paths)
            line(f"a book, {_SECTIONS} WAVs: brought in and measured", f"{time.perf_counter() - began:.0f} s", "", "")
            shown = timed(lambda: _levels(visitor, production))
            line("its Levels opened for the first time, all rows drawn", f"{shown:.2f} s", "", "at most 3 s")
            again = timed(lambda: _levels(visitor, production))
            line("the same once more", f"{again:.2f} s", "", "")
            bare, took = [], []
            mono = speech_recording(folder, 10, "speech.wav")
            for _ in range(ROUNDS):
                bare.append(bare_lame(mono, folder, _OUTLET) * _SECTIONS * _SECTION_S / 600 / 2)
                took.append(one_run(visitor, production, sections, (_OUTLET,)))
        line("the book: bare encodes in mono, by two cores", seconds(bare), "1", "")
        ratio = statistics.median(t / b for t, b in zip(took, bare, strict=True))
        line("all of it in one run, checked", seconds(took), f"{ratio:.2f}", "at most 1.4")


def _book(folder: Path) -> list[Path]:
    """Its recordings: the same speech begun at another place in each, in two sides that differ by a little noise."""
    speech, _ = soundfile.read(speech_recording(folder, 10, "speech.wav"), dtype="int16")
    speech = np.resize(speech, _SECTION_S * RATE_HZ)
    hiss = np.random.default_rng(7).integers(-2, 3, len(speech), dtype=np.int16)
    paths = []
    for number in range(_SECTIONS):
        paths.append(folder / f"book-{number + 1:02}.wav")
        left = np.roll(speech, number * 5 * RATE_HZ)
        soundfile.write(paths[-1], np.stack([left, left + hiss], axis=1), RATE_HZ)
    return paths


def _levels(visitor: Visitor, production: int) -> None:
    """Open the Levels of a production and ask for its rows until none waits, as its page does."""
    page = visitor.get(f"/levels/{production}/?outlet={_OUTLET}")
    while b"being worked out" in page:
        delay = page.split(b"load delay:")[1].split(b'"')[0].decode()
        time.sleep(float(delay.removesuffix("ms")) / 1000 if delay.endswith("ms") else float(delay.removesuffix("s")))
        page = visitor.get(f"/levels/{production}/rows/?outlet={_OUTLET}")
