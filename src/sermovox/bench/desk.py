"""Intake of a large file, pages of a long running order, and waveforms of long recordings."""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from functools import partial
from pathlib import Path
from urllib.parse import urlencode

import numpy as np
import soundfile

from mastering.audio.waveform import WaveformWriter, columns
from mastering.meters.measurement import measure
from sermovox.bench.tools import (
    RATE_HZ,
    ROUNDS,
    Visitor,
    Watched,
    application,
    line,
    pages,
    quiet,
    seconds,
    send_file,
    speech_recording,
    timed,
)

_PORT = 8498
_LARGE_BYTES = 1_000_000_000
_SECTIONS = 300
_NAMES = 1000


def tables() -> None:
    """Print the tables of the desk."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        _waveforms(folder)
        large = large_wav(folder)
        with application(folder / "data", _PORT) as visitor:
            _intake(visitor, large)
        long, names = _long_running_order(folder / "data")
        with application(folder / "data", _PORT) as visitor:
            _pages(visitor, long)
            _reordering(visitor, long)
            _dictating(visitor, names)


def _two_views(path: Path, end: int) -> None:
    columns(path, 2000)
    columns(path, 2000, start_frame=end // 2, end_frame=end // 2 + 99999)


def _waveforms(folder: Path) -> None:
    times = {}
    for name, minutes in (("5 minutes", 5), ("12 hours", 720)):
        path = folder / f"waveform-{minutes}"
        writer = WaveformWriter(path)
        for minute in range(minutes):
            writer.add(np.full((RATE_HZ * 60, 1), 0.001 * (minute % 900), np.float32))
        writer.close()
        end = minutes * 60 * RATE_HZ
        times[name] = statistics.median(timed(partial(_two_views, path, end)) for _ in range(50))
    (short, long) = times.values()
    line("waveform of 5 minutes: whole and a stretch", f"{1000 * short:.2f} ms", "1", "")
    line("waveform of 12 hours: whole and a stretch", f"{1000 * long:.2f} ms", f"{long / short:.2f}", "as fast")


def large_wav(folder: Path, size_bytes: int = _LARGE_BYTES) -> Path:
    """A WAV of 1 GB: 24 bit, mono, speech."""
    speech, _ = soundfile.read(speech_recording(folder, 20, "speech.wav"), dtype="float32")
    path = folder / "large.wav"
    with soundfile.SoundFile(path, "w", RATE_HZ, 1, subtype="PCM_24") as file:
        frames = size_bytes // 3
        while frames > 0:
            file.write(speech[:frames])
            frames -= len(speech)
    return path


def _intake(visitor: Visitor, path: Path) -> None:
    quiet(visitor)
    bare, whole = [], []
    for round_ in range(ROUNDS):
        bare.append(timed(lambda: measure(path)))
        # The same bytes would be known already.
        with path.open("r+b") as file:
            file.seek(-3, os.SEEK_END)
            file.write(bytes([round_, 0, 0]))
        whole.append(_taken_in(visitor, path))
    ratio = statistics.median(w / b for w, b in zip(whole, bare, strict=True))
    line("a WAV of 1 GB: decoding and measuring in the core", seconds(bare), "1", "")
    line("from its last byte uploaded to slip and waveform", seconds(whole), f"{ratio:.2f}", "at most 1.3")


def _taken_in(visitor: Visitor, path: Path) -> float:
    body = Watched(path)
    recording = send_file(visitor, path, body)
    while visitor.send("GET", f"/recordings/{recording}/waveform/", None).status != 200:
        time.sleep(0.1)
    while b"Integrated loudness" not in visitor.get(f"/recordings/{recording}/"):
        time.sleep(0.05)
    return time.perf_counter() - body.ended_at


def _long_running_order(data: Path) -> tuple[int, int]:
    """Keys of two productions of the stopped application: 300 sections with recordings, and 1,000 lines."""
    code = f"from sermovox.bench.desk import make_long; print(*make_long({_SECTIONS}, {_NAMES}))"
    environment = os.environ | {"SERMOVOX_DATA": str(data), "DJANGO_SETTINGS_MODULE": "sermovox.settings"}
    command = [sys.executable, "-c", code]
    made = subprocess.run(command, env=environment, check=True, capture_output=True, text=True)
    long, names = made.stdout.split()
    return int(long), int(names)


def make_long(sections: int, names: int) -> tuple[int, int]:
    """Make the two productions, with recordings like the demonstration's."""
    import django

    django.setup()
    from sermovox.productions.models import Piece, Production, Section
    from sermovox.recordings.models import Recording

    like = Recording.objects.filter(state="ready")[0]
    owner = like.production.owner
    long = Production.objects.create(owner=owner, title="Three hundred")
    recordings = Recording.objects.bulk_create(
        Recording(
            production=long, sha256=f"{n:064x}", name=f"take {n:03}.wav", size_bytes=like.size_bytes,
            state="ready", figures=like.figures, remarks=like.remarks,
        )
        for n in range(sections)
    )  # fmt: skip
    script = "And so it went. " * 40
    rows = Section.objects.bulk_create(
        Section(production=long, position=n, number=n, title=f"Chapter about {n}", script=script)
        for n in range(1, sections + 1)
    )
    Piece.objects.bulk_create(Piece(section=s, recording=r) for s, r in zip(rows, recordings, strict=True))
    lines = Production.objects.create(owner=owner, title="A thousand")
    Section.objects.bulk_create(
        Section(production=lines, position=n, title=f"Line {n}", role="line") for n in range(1, names + 1)
    )
    return long.pk, lines.pk


def _pages(visitor: Visitor, key: int) -> None:
    shown = {
        "running order": "", "its rows": "rows/", "pairing": "pairing/?anew", "names": "names/", "sheet": "sheet/",
        "facts": "edit/", "script": "script/",
    }  # fmt: skip
    paths = {f"{name} of {_SECTIONS} sections": f"/productions/{key}/{path}" for name, path in shown.items()}
    pages(visitor, paths, "", "under 200 ms")
    first = visitor.get(f"/productions/{key}/").decode().split('data-section="')[1].split('"')[0]
    pages(
        visitor,
        {f"one of {_SECTIONS} sections": f"/sections/{first}/", "storage": "/recordings/storage/"},
        "",
        "under 200 ms",
    )


def _reordering(visitor: Visitor, key: int) -> None:
    sections = [part.split('"')[0] for part in visitor.get(f"/productions/{key}/").decode().split('data-section="')[1:]]
    times = []
    for n in range(25):
        facts = {"do": "move", "section": sections[-1 - n], "before": sections[0]}
        times.append(
            1000 * timed(partial(visitor.send, "POST", f"/productions/{key}/change/", urlencode(facts).encode()))
        )
    slow = statistics.quantiles(times, n=20)[-1]
    line(
        f"moving the last of {_SECTIONS} sections to the top, median and 95th in 100",
        f"{statistics.median(times):.0f} ms", f"{slow:.0f} ms", "under 100 ms",
    )  # fmt: skip


def _dictating(visitor: Visitor, key: int) -> None:
    listed = "\n".join(f"LINE_{n:04}" for n in range(_NAMES))
    form = urlencode({"outlet": "podcast-host", "names": listed, "way": "order"}).encode()
    address = f"/productions/{key}/names/exact/"
    shown = timed(lambda: visitor.send("POST", f"{address}preview/", form).read())
    applied = timed(lambda: visitor.send("POST", address, form).read())
    line(f"{_NAMES} dictated names: shown, then set and shown again", f"{shown:.2f} s", f"{applied:.2f} s", "1 s")
