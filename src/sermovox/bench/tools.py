"""What the benchmarks share: a line of the table, times, the running application, a recording of speech."""

import os
import statistics
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http import HTTPStatus
from pathlib import Path
from urllib.error import HTTPError

import numpy as np
import soundfile
import soxr

from mastering.certain import certain

RATE_HZ = 44100
ROUNDS = 3
_SPEECH = Path("/usr/share/asterisk/sounds/en_US_f_Allison")


def line(*cells: str) -> None:
    """Print a line of the table."""
    print("| " + " | ".join(cells) + " |", flush=True)


def timed(work: Callable[[], object]) -> float:
    """How many seconds it takes."""
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def seconds(times: list[float]) -> str:
    """The median of some times, as it is printed."""
    return f"{statistics.median(times):.1f} s"


class Visitor:
    """Somebody with a browser, at the running application."""

    def __init__(self, address: str):
        self.address = address
        self._opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
        page = self.get("/productions/new/").decode()
        self.token = page.split('name="csrfmiddlewaretoken" value="')[1].split('"')[0]

    def get(self, path: str) -> bytes:
        return self._opener.open(f"{self.address}{path}").read()

    def send(self, method: str, path: str, body=b"", **headers: str):
        """Send a request with a body as a page of the application would; returns the response."""
        url = path if path.startswith("http") else f"{self.address}{path}"
        request = urllib.request.Request(url, body, headers, method=method)
        request.add_header("Referer", f"{self.address}/")
        request.add_header("X-CSRFToken", self.token)
        return self._opener.open(request)

    def page_ms(self, path: str) -> float:
        return 1000 * timed(lambda: self.get(path))


@contextmanager
def application(data: Path, port: int) -> Iterator[Visitor]:
    """The demonstration, running on a data folder of its own."""
    command = [sys.executable, "-m", "sermovox.cli", "start", "--demo", "--port", str(port), "--workers", "2"]
    environment = os.environ | {"SERMOVOX_DATA": str(data)}
    running = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)
    try:
        told = certain(running.stdout)
        while "ready" not in told.readline():
            pass
        yield Visitor(f"http://127.0.0.1:{port}")
    finally:
        running.terminate()
        running.wait()


class Watched:
    """A file that notes when its last byte was read by the sender."""

    def __init__(self, path: Path):
        self._file = path.open("rb")
        self.ended_at = 0.0

    def read(self, count: int = -1) -> bytes:
        data = self._file.read(count)
        self.ended_at = time.perf_counter()
        return data


def send_file(visitor: Visitor, path: Path, body: Watched | None = None, *, production: int = 1) -> str:
    """Bring a file into a production by the tus protocol; returns the recording's key."""
    body = body or Watched(path)
    size = path.stat().st_size
    tus = {"Tus-Resumable": "1.0.0"}
    begun = visitor.send("POST", f"/recordings/uploads/into/{production}/", **tus, **{"Upload-Length": str(size)})
    address = begun.headers["Location"]
    headers = tus | {"Upload-Offset": "0", "Content-Type": "application/offset+octet-stream"}
    visitor.send("PATCH", address, body, **headers, **{"Content-Length": str(size)}).read()
    while '"here"' not in (outcome := visitor.send("GET", address, None).read().decode()):
        time.sleep(0.02)
    return outcome.rpartition('"recording":')[2].strip(" }\n")


def quiet(visitor: Visitor) -> None:
    """Wait until the demonstration's own files are made, so that what is measured has the machine for itself."""
    # The fourth delivery follows by itself once the first three are there.
    for key in (1, 2, 3, 4):
        while b'data-running="no"' not in _unless_missing(visitor, f"/deliveries/{key}/"):
            time.sleep(1.0)


def _unless_missing(visitor: Visitor, path: str) -> bytes:
    try:
        return visitor.get(path)
    except HTTPError as error:
        if error.code == HTTPStatus.NOT_FOUND:
            return b""
        raise


def pages(visitor: Visitor, paths: dict[str, str], said: str, asked: str) -> None:
    """Lines for pages by what they are called: median and 95th in 100 of 25 times."""
    for name, path in paths.items():
        taken = [visitor.page_ms(path) for _ in range(25)]
        slow = statistics.quantiles(taken, n=20)[-1]
        line(f"{name}{said}, median and 95th in 100", f"{statistics.median(taken):.0f} ms", f"{slow:.0f} ms", asked)


def speech_recording(folder: Path, minutes: int, name: str) -> Path:
    """Speech with pauses, written a minute at a time: Debian's prompts where installed, each at its own level."""
    random = np.random.default_rng(4)
    pieces = [_piece(path) for path in sorted(_SPEECH.glob("*.wav"))] or [_buzz(random)]
    path = folder / name
    if path.exists():
        return path
    with soundfile.SoundFile(path, "w", RATE_HZ, 1, subtype="PCM_16") as file:
        written, place = 0, 0
        while written < minutes * 60 * RATE_HZ:
            piece = pieces[place % len(pieces)] * random.uniform(0.35, 1.0)
            pause = np.zeros(round(random.uniform(0.2, 0.9) * RATE_HZ), np.float32)
            samples = np.concatenate([piece, pause]).astype(np.float32)
            samples += random.standard_normal(len(samples)).astype(np.float32) * 3e-4
            samples = samples[: minutes * 60 * RATE_HZ - written]
            file.write(samples)
            written += len(samples)
            place += 1
    return path


def _piece(path: Path) -> np.ndarray:
    samples, rate_hz = soundfile.read(path, dtype="float32")
    return soxr.resample(samples, rate_hz, RATE_HZ) * np.float32(0.5)


def _buzz(random: np.random.Generator) -> np.ndarray:
    times = np.arange(4 * RATE_HZ) / RATE_HZ
    voice = sum(np.sin(2 * np.pi * 120 * k * times) / k for k in range(1, 25))
    return (0.15 * voice * np.abs(np.sin(3 * times))).astype(np.float32)
