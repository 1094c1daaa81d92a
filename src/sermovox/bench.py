"""The benchmark tables: ratios measured in one run on one machine. Run by bin/bench."""

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import urllib.parse
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import av
import numpy as np
import soundfile
import soxr

from mastering.audio.convert import to_16_bit
from mastering.audio.reader import Reader
from mastering.audio.writers import encoder_gain_db, open_writer
from mastering.meters.decibels import amplitude_of_db
from mastering.meters.measurement import measure
from mastering.outlets.levelplan import plan_levels
from mastering.outlets.outlet import shipped
from mastering.pipeline import make
from mastering.shaping.gain import gained
from mastering.shaping.limiter import limited

_RATE_HZ = 44100
_OUTLET = "volunteer-archive"
_SPEECH = Path("/usr/share/asterisk/sounds/en_US_f_Allison")
_ROUNDS = 3
_PAGES = ("/", "/productions/2/", "/productions/2/rows/", "/deliveries/", "/deliveries/2/", "/outlets/podcast-host/")
_VISITOR = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())


def main() -> None:
    parser = argparse.ArgumentParser(prog="bench")
    parser.add_argument("--minutes", type=int, default=60, help="length of the recording (default: %(default)s)")
    parser.add_argument("--peak-memory-of", metavar="FILE", help=argparse.SUPPRESS)
    parser.add_argument("--make", nargs=2, metavar=("FILE", "TARGET"), help=argparse.SUPPRESS)
    options = parser.parse_args()
    if options.peak_memory_of:
        _report_peak_memory(Path(options.peak_memory_of))
    elif options.make:
        make(Path(options.make[0]), shipped()[_OUTLET], Path(options.make[1]), replace=True)
    else:
        _tables(options.minutes)


def _tables(minutes: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        recording = _recording(folder, minutes, "recording.wav")
        print(f"# {minutes} minutes of mono speech at {_RATE_HZ} Hz, 16 bit; times are medians of {_ROUNDS} rounds\n")
        _line("what", "time", "ratio", "asked")
        _line("---", "---", "---", "---")
        _making(recording, folder)
        _measuring(recording)
        _memory(folder)
        _pages(folder)


def _making(recording: Path, folder: Path) -> None:
    target = folder / "made.mp3"
    bare, whole = [], []
    # Taken in turns, so that a slow moment of the machine does not fall on one of them alone.
    for _ in range(_ROUNDS):
        bare.append(_bare_lame(recording, folder))
        whole.append(_timed(lambda: make(recording, shipped()[_OUTLET], target, replace=True)))
    _line("bare LAME encode, same samples and quality", _s(bare), "1", "")
    ratio = statistics.median(w / b for w, b in zip(whole, bare, strict=True))
    _line("making: read, measure, level, encode, decode, check", _s(whole), f"{ratio:.2f}", "at most 1.6")
    one, two = [], []
    for _ in range(_ROUNDS):
        one.append(_timed(lambda: _in_processes(recording, folder, 1)))
        two.append(_timed(lambda: _in_processes(recording, folder, 2)))
    ratio = statistics.median(t / o for t, o in zip(two, one, strict=True))
    _line("two at once on two cores, against one", _s(two), f"{ratio:.2f}", "at most 1.2")


def _measuring(recording: Path) -> None:
    ours, theirs = [], []
    for _ in range(_ROUNDS):
        theirs.append(_timed(lambda: _libav_ebur128(recording)))
        ours.append(_timed(lambda: measure(recording)))
    _line("libav's ebur128 with true peak", _s(theirs), "1", "")
    ratio = statistics.median(t / o for t, o in zip(theirs, ours, strict=True))
    _line("measuring, all figures in one pass, times as fast", _s(ours), f"{ratio:.2f}", "at least 1.5")


def _memory(folder: Path) -> None:
    short = _peak_memory_mb(_recording(folder, 10, "short.wav"))
    long = _peak_memory_mb(_recording(folder, 180, "long.wav"))
    _line("a worker's peak memory, 10 minutes", f"{short:.0f} MB", "1", "")
    _line("a worker's peak memory, 3 hours", f"{long:.0f} MB", f"{long / short:.2f}", "at most 1.15 and 350 MB")


def _pages(folder: Path) -> None:
    """Pages of the demonstration, asked for while both workers are making files."""
    port, data = 8497, folder / "data"
    environment = os.environ | {"SERMOVOX_DATA": str(data)}
    command = [sys.executable, "-m", "sermovox.cli", "start", "--demo", "--port", str(port), "--workers", "2"]
    application = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)
    try:
        while "ready" not in application.stdout.readline():
            pass
        _page_ms(port, "/")  # signs the visitor in
        stop = threading.Event()
        with ThreadPoolExecutor(1) as load:
            busy = load.submit(_keep_busy, port, stop)
            times = {path: [_page_ms(port, path) for _ in range(25)] for path in _PAGES}
            stop.set()
            runs = busy.result()
    finally:
        application.terminate()
        application.wait()
    for path, taken in times.items():
        slow = statistics.quantiles(taken, n=20)[-1]
        _line(
            f"page {path} during {runs} runs, median and 95th in 100",
            f"{statistics.median(taken):.0f} ms",
            f"{slow:.0f} ms",
            "under 100 ms",
        )


def _keep_busy(port: int, stop: threading.Event) -> int:
    """Start one delivery after the other as the page would; returns how many."""
    runs = 0
    while not stop.is_set():
        opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
        page = opener.open(f"http://127.0.0.1:{port}/productions/2/").read().decode()
        token = page.split('name="csrfmiddlewaretoken" value="')[1].split('"')[0]
        keys = [part.split('"')[0] for part in page.split('name="section" value="')[1:]]
        form = urllib.parse.urlencode(
            [("csrfmiddlewaretoken", token), ("outlet", _OUTLET), *(("section", key) for key in keys)]
        )
        request = urllib.request.Request(f"http://127.0.0.1:{port}/deliveries/start/2/", form.encode())
        request.add_header("Referer", f"http://127.0.0.1:{port}/")
        opener.open(request).read()
        runs += 1
        stop.wait(1.0)
    return runs


def _page_ms(port: int, path: str) -> float:
    began = time.perf_counter()
    _VISITOR.open(f"http://127.0.0.1:{port}{path}").read()
    return 1000 * (time.perf_counter() - began)


def _bare_lame(recording: Path, folder: Path) -> float:
    """Time of nothing but the encoder, on the very samples that making hands to it."""
    outlet = shipped()[_OUTLET]
    encoding = outlet.encoding(channels=1, content_kind="speech")
    demands = outlet.demands(channels=1, content_kind="speech")
    plan = plan_levels(measure(recording).levels, demands, lossy=True)
    target = folder / "bare.mp3"
    target.unlink(missing_ok=True)
    with Reader(recording) as reader:
        blocks = gained(reader.blocks(), plan.gain_db)
        blocks = limited(blocks, ceiling_dbtp=plan.ceiling_dbtp, sample_rate_hz=_RATE_HZ, channels=1)
        samples = list(to_16_bit(blocks, dither=True, gain=amplitude_of_db(-encoder_gain_db(encoding))))
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
    return json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)


def _report_peak_memory(recording: Path) -> None:
    """What a worker does, with all that a worker has loaded: intake's measuring, then making."""
    os.environ["SERMOVOX_DATA"] = str(recording.parent / f"data-{recording.stem}")
    os.environ["DJANGO_SETTINGS_MODULE"] = "sermovox.settings"
    import django
    from django.core.management import call_command

    django.setup()
    call_command("migrate", verbosity=0)
    from django.contrib.auth import get_user_model

    from sermovox.deliveries.models import Delivery
    from sermovox.productions.models import Production
    from sermovox.recordings.intake import take_in

    owner = get_user_model().objects.create_user("bench")
    production = Production.objects.create(owner=owner, title="Bench")
    take_in(production, recording)
    queue = {"queue_name": "*", "batch": True, "startup_delay": False, "reload": False, "verbosity": 0}
    call_command("db_worker", **queue)
    delivery = Delivery.start(production, _OUTLET, list(production.sections.all()))
    call_command("db_worker", **queue)
    file = delivery.files.get()
    if not file.is_made:
        raise RuntimeError(file.refusal)
    # Not getrusage: on Linux that keeps the peak of the process this one was forked from.
    status = Path("/proc/self/status").read_text()
    print(int(status.split("VmHWM:")[1].split()[0]) / 1024)


def _recording(folder: Path, minutes: int, name: str) -> Path:
    """Speech with pauses, written a minute at a time: Debian's prompts where installed, each at its own level."""
    random = np.random.default_rng(4)
    pieces = [_piece(path) for path in sorted(_SPEECH.glob("*.wav"))] or [_buzz(random)]
    path = folder / name
    if path.exists():
        return path
    with soundfile.SoundFile(path, "w", _RATE_HZ, 1, subtype="PCM_16") as file:
        written, place = 0, 0
        while written < minutes * 60 * _RATE_HZ:
            piece = pieces[place % len(pieces)] * random.uniform(0.35, 1.0)
            pause = np.zeros(round(random.uniform(0.2, 0.9) * _RATE_HZ), np.float32)
            samples = np.concatenate([piece, pause]).astype(np.float32)
            samples += random.standard_normal(len(samples)).astype(np.float32) * 3e-4
            samples = samples[: minutes * 60 * _RATE_HZ - written]
            file.write(samples)
            written += len(samples)
            place += 1
    return path


def _piece(path: Path) -> np.ndarray:
    samples, rate_hz = soundfile.read(path, dtype="float32")
    return soxr.resample(samples, rate_hz, _RATE_HZ) * np.float32(0.5)


def _buzz(random: np.random.Generator) -> np.ndarray:
    times = np.arange(4 * _RATE_HZ) / _RATE_HZ
    voice = sum(np.sin(2 * np.pi * 120 * k * times) / k for k in range(1, 25))
    return (0.15 * voice * np.abs(np.sin(3 * times))).astype(np.float32)


def _timed(work) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def _s(times: list[float]) -> str:
    return f"{statistics.median(times):.1f} s"


def _line(*cells: str) -> None:
    print("| " + " | ".join(cells) + " |", flush=True)


if __name__ == "__main__":
    main()
