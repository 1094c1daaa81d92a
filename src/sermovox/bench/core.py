"""Making and measuring, against nothing but the encoder and against libav; and how much memory it takes."""

import hashlib
import json
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import urllib.parse
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import av
import numpy as np
import soundfile
import soxr

from mastering.audio.convert import to_held
from mastering.audio.formats import INT_16
from mastering.audio.reader import Reader
from mastering.audio.writers import encoder_gain_db, open_writer
from mastering.meters.decibels import amplitude_of_db
from mastering.meters.measurement import measure
from mastering.outlets.planning import plan_levels
from mastering.outlets.rulesheets import read, shipped, shipped_text
from mastering.pipeline import make
from mastering.shaping.gain import gained
from mastering.shaping.limiter import limited
from sermovox.bench import stages
from sermovox.bench.tools import RATE_HZ, ROUNDS, Visitor, application, line, pages, seconds, speech_recording, timed
from sermovox.running.worker import ENVIRONMENT

OUTLET = "volunteer-archive"
_PORT = 8497
_PAGES = {
    path: path
    for path in (
        "/",
        "/productions/2/",
        "/productions/2/rows/",
        "/deliveries/",
        "/deliveries/2/",
        "/outlets/podcast-host/",
    )
}


def tables(minutes: int, picture: Path | None) -> None:
    """Print the tables of the core; with a file given, draw there where the time of one file goes."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        take = speech_recording(folder, minutes, "recording.wav")
        _making(take, folder)
        stages.table(take, folder, minutes, OUTLET, picture)
        _measuring(take)
        _wav(take, folder)
        _memory(folder)
        with application(folder / "data", _PORT) as visitor:
            _pages(visitor)


def _making(take: Path, folder: Path) -> None:
    target, outlet = folder / "made.mp3", shipped()[OUTLET]
    given = _as_taken_in(take)
    bare, known, whole = [], [], []
    # Taken in turns, so that a slow moment of the machine does not fall on one of them alone.
    for _ in range(ROUNDS):
        bare.append(bare_lame(take, folder))
        known.append(timed(lambda: make(take, outlet, target, replace=True, **given)))
        whole.append(timed(lambda: make(take, outlet, target, replace=True)))
    line("bare LAME encode, same samples and quality", seconds(bare), "1", "")
    ratio = statistics.median(k / b for k, b in zip(known, bare, strict=True))
    line("read, level, encode, decode, check, measured before", seconds(known), f"{ratio:.2f}", "at most 1.1")
    ratio = statistics.median(w / b for w, b in zip(whole, bare, strict=True))
    line("the same with measuring first", seconds(whole), f"{ratio:.2f}", "at most 1.3")
    proving = [timed(lambda: hashlib.file_digest(take.open("rb"), "sha256")) for _ in range(ROUNDS)]
    share = statistics.median(p / w for p, w in zip(proving, whole, strict=True))
    line("reading it against its SHA-256, of making", seconds(proving), f"{share:.3f}", "at most 0.03")
    one, two = [], []
    for _ in range(ROUNDS):
        one.append(timed(lambda: _in_processes(take, folder, 1)))
        two.append(timed(lambda: _in_processes(take, folder, 2)))
    ratio = statistics.median(t / o for t, o in zip(two, one, strict=True))
    line("two at once on two cores, against one", seconds(two), f"{ratio:.2f}", "at most 1.2")


def _as_taken_in(take: Path) -> dict[str, Any]:
    """What the application knows of a recording before it makes anything of it, as `make` takes it."""
    measured = measure(take)
    recordings = {take: (take.name, measured.figures() | measured.origin())}
    return {"measured": lambda: measured, "recordings": lambda: recordings}


def _measuring(take: Path) -> None:
    ours, theirs = [], []
    for _ in range(ROUNDS):
        theirs.append(timed(lambda: _libav_ebur128(take)))
        ours.append(timed(lambda: measure(take)))
    line("libav's ebur128 with true peak", seconds(theirs), "1", "")
    ratio = statistics.median(t / o for t, o in zip(theirs, ours, strict=True))
    line("measuring, all figures in one pass, times as fast", seconds(ours), f"{ratio:.2f}", "at least 4")


def _wav(take: Path, folder: Path) -> None:
    """WAV of 16 bits out of WAV, against nothing but reading, converting and writing."""
    outlet = read(shipped_text("radio-playout").replace("44100", "48000"))
    bare, whole = [], []
    given = _as_taken_in(take)
    for _ in range(ROUNDS):
        bare.append(timed(lambda: _copied(take, folder / "bare.wav")))
        whole.append(timed(lambda: make(take, outlet, folder / "made.wav", replace=True, **given)))
    line("WAV, 16 bit: read, converted and written by libsndfile and soxr", seconds(bare), "1", "")
    ratio = statistics.median(w / b for w, b in zip(whole, bare, strict=True))
    line("WAV, 16 bit: made and verified, measured before", seconds(whole), f"{ratio:.2f}", "at most 2.0")


def _copied(take: Path, target: Path) -> None:
    with soundfile.SoundFile(take) as given, soundfile.SoundFile(target, "w", 48000, 1, subtype="PCM_16") as made:
        stream = soxr.ResampleStream(given.samplerate, 48000, 1, dtype="float32", quality="VHQ")
        for block in given.blocks(65536, dtype="float32", always_2d=True):
            made.write(stream.resample_chunk(block))
        made.write(stream.resample_chunk(np.zeros((0, 1), np.float32), last=True))


def _memory(folder: Path) -> None:
    short = _peak_memory_mb(speech_recording(folder, 10, "short.wav"))
    long = _peak_memory_mb(speech_recording(folder, 180, "long.wav"))
    line("a worker's peak memory, 10 minutes", f"{short:.0f} MB", "1", "")
    line("a worker's peak memory, 3 hours", f"{long:.0f} MB", f"{long / short:.2f}", "at most 1.15 and 350 MB")


def _pages(visitor: Visitor) -> None:
    """Pages of the demonstration, asked for while both workers are making files."""
    stop = threading.Event()
    with ThreadPoolExecutor(1) as load:
        load.submit(_keep_busy, visitor.address, stop)
        pages(visitor, _PAGES, " during runs", "under 100 ms")
        stop.set()


def _keep_busy(address: str, stop: threading.Event) -> None:
    """Start one delivery after the other as the page would."""
    somebody = Visitor(address)
    while not stop.is_set():
        page = somebody.get("/productions/2/").decode()
        keys = [part.split('"')[0] for part in page.split('name="section" value="')[1:]]
        facts = [("outlet", OUTLET), ("existing", "keep-both"), ("again", "yes"), *(("section", key) for key in keys)]
        somebody.send("POST", "/deliveries/start/2/", urllib.parse.urlencode(facts).encode()).read()
        stop.wait(1.0)


def bare_lame(recording: Path, folder: Path, key: str = OUTLET) -> float:
    """Time of nothing but the encoder of an outlet, on the very samples that making hands to it."""
    outlet = shipped()[key]
    encoding = outlet.encoding(channels=1, content_kind="speech")
    demands = outlet.demands(channels=1, content_kind="speech")
    plan = plan_levels(measure(recording).levels, demands, lossy=True)
    target = folder / f"bare.{encoding.extension}"
    target.unlink(missing_ok=True)
    with Reader(recording) as reader:
        blocks = gained(reader.blocks(), plan.gain_db)
        if plan.ceiling_dbtp is not None:
            blocks = limited(blocks, ceiling_dbtp=plan.ceiling_dbtp, sample_rate_hz=RATE_HZ, channels=1)
        made_up = amplitude_of_db(-encoder_gain_db(encoding))
        samples = list(to_held(blocks, holds=encoding.holds, dither=encoding.holds == INT_16, gain=made_up))
    began = time.perf_counter()
    writer = open_writer(target, encoding)
    for block in samples:
        writer.write(block)
    writer.close()
    return time.perf_counter() - began


def _in_processes(recording: Path, folder: Path, count: int) -> None:
    command = [sys.executable, "-m", "sermovox.bench", "--make", str(recording)]
    running = [subprocess.Popen([*command, str(folder / f"{n}.mp3")]) for n in range(count)]
    for process in running:
        if process.wait():
            raise RuntimeError("making failed")


def _libav_ebur128(path: Path) -> None:
    with av.open(str(path)) as container:
        stream = container.streams.audio[0]
        graph = av.filter.Graph()
        source = graph.add_abuffer(template=stream)
        meter, sink = graph.add("ebur128", "peak=true:framelog=quiet"), graph.add("abuffersink")
        source.link_to(meter)
        meter.link_to(sink)
        graph.configure()
        for frame in container.decode(stream):
            graph.push(frame)
            try:
                while True:
                    graph.pull()
            except av.BlockingIOError:
                pass


def _peak_memory_mb(recording: Path) -> float:
    command = [sys.executable, "-m", "sermovox.bench", "--peak-memory-of", str(recording)]
    return json.loads(
        subprocess.run(command, check=True, capture_output=True, text=True, env=os.environ | ENVIRONMENT).stdout
    )


def report_peak_memory(recording: Path) -> None:
    """What a worker does, with all that a worker has loaded: intake's measuring, then making."""
    os.environ["SERMOVOX_DATA"] = str(recording.parent / f"data-{recording.stem}")
    os.environ["DJANGO_SETTINGS_MODULE"] = "sermovox.settings"
    import django
    from django.core.management import call_command

    django.setup()
    call_command("migrate", verbosity=0)
    from django.contrib.auth import get_user_model

    from sermovox.deliveries.runs import start_run
    from sermovox.productions.models import Production
    from sermovox.recordings.intake import take_in

    owner = get_user_model().objects.create_user("bench")
    production = Production.objects.create(owner=owner, title="Bench")
    take_in(production, recording)
    queue = {"queue_name": "*", "batch": True, "startup_delay": False, "reload": False, "verbosity": 0}
    call_command("db_worker", **queue)
    (delivery,) = start_run(production, [shipped()[OUTLET]], list(production.sections.all()))
    call_command("db_worker", **queue)
    file = delivery.files.get()
    if not file.is_made:
        raise RuntimeError(file.refusal)
    # Not getrusage: on Linux that keeps the peak of the process this one was forked from.
    status = Path("/proc/self/status").read_text()
    print(int(status.split("VmHWM:")[1].split()[0]) / 1024)
