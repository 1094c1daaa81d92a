"""What the application costs while nobody wants anything of it, how soon it begins once somebody does, and how long it
takes to start.
"""

import os
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from contextlib import suppress
from pathlib import Path

from sermovox.bench.tools import ROUNDS, application, line, quiet

_PORT = 8494
_WATCHED_S = 70.0
_TASKS = 20
_TICKS = os.sysconf("SC_CLK_TCK")


def tables() -> None:
    """Print the table of idleness."""
    with tempfile.TemporaryDirectory() as kept:
        data = Path(kept) / "demo"
        with application(data, _PORT) as visitor:
            quiet(visitor)
            _worked_off(data)
            # What is only looked for a while after the last change has been.
            time.sleep(75.0)
            before, began = _spent(data), time.monotonic()
            time.sleep(_WATCHED_S)
            took_s, after = time.monotonic() - began, _spent(data)
            share = (after[0] - before[0]) / took_s
            line("all processes of the demonstration, nothing to do", f"{100 * share:.2f} % of a core", "", "under 1 %")
            line("what they write meanwhile", f"{(after[1] - before[1]) / 1000:.0f} kB", "", "none")
            waited = _woken(data)
            line(f"from queued to begun, of {_TASKS}", f"{1000 * statistics.median(waited):.0f} ms", "", "")
            line("the slowest of them", f"{1000 * max(waited):.0f} ms", "", "under 200 ms")
        ready, answered = zip(*(_started(Path(kept) / "own") for _ in range(ROUNDS + 1)), strict=True)
        line("first start ever, to the first page", f"{answered[0]:.1f} s", "", "")
        line("a later start, until it says that it is ready", f"{statistics.median(ready[1:]):.1f} s", "", "")
        line("a later start, to the first page", f"{statistics.median(answered[1:]):.1f} s", "", "at most 4 s")


def _worked_off(data: Path) -> None:
    """Wait until no task waits or runs."""
    database = sqlite3.connect(data / "sermovox.sqlite3")
    asked = "SELECT count(*) FROM django_tasks_database_dbtaskresult WHERE status IN ('READY', 'RUNNING')"
    while database.execute(asked).fetchone()[0]:
        time.sleep(1.0)
    database.close()


def _spent(data: Path) -> tuple[float, int]:
    """Seconds of processor time and bytes written by all processes with a data folder."""
    cpu_s, written = 0.0, 0
    for entry in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):
            if f"SERMOVOX_DATA={data}\0".encode() not in (entry / "environ").read_bytes():
                continue
            figures = (entry / "stat").read_text().rpartition(")")[2].split()
            cpu_s += (int(figures[11]) + int(figures[12])) / _TICKS
            written += int((entry / "io").read_text().split("\nwrite_bytes: ")[1].split()[0])
    return cpu_s, written


def _woken(data: Path) -> list[float]:
    """How long each of some tasks of another process waits until a worker begins with it, in seconds."""
    code = f"""
import time
import sermovox.running.ready
from django_tasks_db.models import DBTaskResult
from sermovox.work import queue
from sermovox.demo.tasks import go_on
for _ in range({_TASKS}):
    queue.enqueue(go_on, 0, short=True)
    time.sleep(0.73)
for task in DBTaskResult.objects.order_by("-enqueued_at")[:{_TASKS}]:
    print((task.started_at - task.enqueued_at).total_seconds())
"""
    environment = os.environ | {"SERMOVOX_DATA": str(data)}
    told = subprocess.run([sys.executable, "-c", code], env=environment, check=True, capture_output=True, text=True)
    return [float(each) for each in told.stdout.split()]


def _started(data: Path) -> tuple[float, float]:
    """Seconds until a start without the demonstration says that it is ready, and until a page is there."""
    environment, began = os.environ | {"SERMOVOX_DATA": str(data)}, time.monotonic()
    command = [sys.executable, "-m", "sermovox.cli", "start", "--port", str(_PORT + 1)]
    running = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)
    try:
        assert running.stdout
        while "ready" not in running.stdout.readline():
            pass
        ready_s = time.monotonic() - began
        while True:
            with suppress(urllib.error.URLError), urllib.request.urlopen(f"http://127.0.0.1:{_PORT + 1}/") as answer:
                answer.read()
                return ready_s, time.monotonic() - began
    finally:
        running.terminate()
        running.wait()
