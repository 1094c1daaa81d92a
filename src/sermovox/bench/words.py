"""Words of a script found in recordings of human voices: how often they are right, in what time and memory."""

import json
import resource
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
import soxr

from mastering.meters.measurement import Measurement, measure
from mastering.tests.prompts import LANGUAGES, RATE_HZ, Take, joined, over, prompts
from mastering.words.hearing import HeardScript, hear
from mastering.words.proof import OUTSIDE, proof, readings_that_count
from sermovox.bench.tools import line, timed
from sermovox.demo.scenario import FOLDER

_SEEDS = (31, 32)
_KINDS: list[tuple[str, dict[str, Any]]] = [
    ("80 lines in order", {}),
    ("with 20 % false starts and 10 % repeats", {"false_starts": 0.2, "repeats": 0.1}),
    ("every tenth line left out, every tenth added", {"left_out_every": 10, "added_every": 10}),
]
_NOISES_DB = (30.0, 10.0)
_BENEATH_DB = 20.0


def tables() -> None:
    """Print the table of words."""
    for snr_db in _NOISES_DB:
        for name, kind in _KINDS:
            takes = [(joined(language, seed=seed, snr_db=snr_db, **kind), language)
                     for language in LANGUAGES for seed in _SEEDS]  # fmt: skip
            _accuracy(f"{name}, {snr_db:g} dB over noise", [(take, _heard(take, language)) for take, language in takes])
    for name, beneath in (("music", _music), ("another speaker", _another_speaker)):
        takes = []
        for language in LANGUAGES:
            for seed in _SEEDS:
                take = joined(language, seed=seed)
                takes.append((replace(take, samples=over(take.samples, beneath(language), _BENEATH_DB)), language))
        _accuracy(
            f"80 lines in order, {name} 20 dB below", [(take, _heard(take, language)) for take, language in takes]
        )
    for minutes in (60, 180):
        seconds, memory_mb = _apart(minutes)
        asked = "under 60 s, under 500 MB" if minutes == 60 else "memory as for an hour"
        line(f"words of {minutes} minutes", f"{seconds:.0f} s", f"{memory_mb:.0f} MB", asked)


def _music(language: str) -> np.ndarray:
    samples, rate_hz = soundfile.read(FOLDER / "opening-tune.flac")
    return soxr.resample(samples, rate_hz, RATE_HZ)


def _another_speaker(language: str) -> np.ndarray:
    return joined(LANGUAGES[LANGUAGES.index(language) - 1], seed=7).samples


def report(folder: Path) -> None:
    """Time and memory of one long take, as JSON; run in a process of its own."""
    lines = json.loads((folder / "lines.json").read_text())
    envelope = Measurement.load(folder / "measured.npz").levels.envelope
    seconds = timed(lambda: hear(folder / "take.wav", lines, language="en", envelope=envelope))
    peak_mb = next(
        int(row.split()[1]) / 1024 for row in Path("/proc/self/status").read_text().split("\n") if row[:6] == "VmHWM:"
    )
    speaker_mb = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(json.dumps([seconds, peak_mb + speaker_mb]))


def _heard(take: Take, language: str) -> HeardScript:
    with tempfile.TemporaryDirectory() as name:
        path = take.write(Path(name) / "take.wav")
        return hear(path, take.lines, language=language, envelope=measure(path).levels.envelope)


def _accuracy(name: str, heard: list[tuple[Take, HeardScript]]) -> None:
    def share(*, start_s: float, end_s: float = float("inf")) -> str:
        told = []
        for take, script in heard:
            counted = readings_that_count(script)
            for at, place in take.last_whole().items():
                reading = counted[at]
                told.append(reading is not None and abs(reading.start_s - place.start_s) <= start_s
                            and abs(reading.end_s - place.end_s) <= end_s)  # fmt: skip
        return f"{np.mean(told):.2%}"

    starts, both = [share(start_s=within) for within in (0.1, 0.25)], share(start_s=0.25, end_s=0.25)
    line(name, f"starts {starts[0]} / {starts[1]}", f"both ends {both}", _named(heard))


def _named(heard: list[tuple[Take, HeardScript]]) -> str:
    """How many of the lines that were left out, and of those in no script, are named; and how many wrongly."""
    left_out = named = wrongly = added = found = 0
    for take, script in heard:
        missing = {at for at, reading in enumerate(readings_that_count(script)) if reading is None}
        truly = set(range(len(take.lines))) - set(take.last_whole())
        left_out, named, wrongly = left_out + len(truly), named + len(missing & truly), wrongly + len(missing - truly)
        outside = [each for each in proof(script) if each.kind == OUTSIDE]
        for place in take.places:
            if place.line is None:
                added += 1
                middle_s = (place.start_s + place.end_s) / 2
                found += any(each.start_s < middle_s < each.end_s for each in outside)
    return f"missing {named} of {left_out}, {wrongly} wrongly; outside {found} of {added}"


def _apart(minutes: int) -> tuple[float, float]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lines = long_take(folder / "take.wav", minutes)
        measure(folder / "take.wav").save(folder / "measured.npz")
        (folder / "lines.json").write_text(json.dumps(lines))
        command = [sys.executable, "-m", "sermovox.bench", "--words-of", name]
        told = subprocess.run(command, stdout=subprocess.PIPE, check=True).stdout
        return tuple(json.loads(told))


def long_take(path: Path, minutes: int) -> list[str]:
    """Write prompts one after the other for so long; returns their texts."""
    pool, random = prompts("en"), np.random.default_rng(5)
    parts, lines, seconds = [], [], 0.0
    while seconds < minutes * 60:
        prompt = pool[random.integers(len(pool))]
        parts += [np.zeros(int(random.uniform(0.3, 1.2) * RATE_HZ), np.float32), prompt.samples]
        lines.append(prompt.text)
        seconds += (len(parts[-1]) + len(parts[-2])) / RATE_HZ
    Take(np.concatenate(parts), lines, []).write(path)
    return lines
