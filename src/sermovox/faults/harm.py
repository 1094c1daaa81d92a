"""The application as processes, and what is done to it."""

import contextlib
import os
import random
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

from mastering.certain import certain

_SETTLES_S = 60.0
_DAY_S = 24 * 3600


class Application:
    """One application with a data folder of its own, on a small disk where this machine can mount one."""

    def __init__(self, folder: Path, *, small_disk_bytes: int, workers: int):
        self._workers = workers
        self.data, self.folder = folder / "data", folder
        self.data.mkdir()
        (folder / "watched").mkdir()
        options = f"size={small_disk_bytes}"
        mounting = ["mount", "-t", "tmpfs", "-o", options, "tmpfs", str(self.data)]
        self.has_small_disk = (
            shutil.which("mount") is not None and not subprocess.run(mounting, capture_output=True).returncode
        )
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self.environment = os.environ | {
            "SERMOVOX_DATA": str(self.data),
            "SERMOVOX_WATCHED": str(folder / "watched"),
            "SERMOVOX_DEMO_SIGN_IN": "1",
            "DJANGO_SETTINGS_MODULE": "sermovox.settings",
        }
        self._log = (folder / "log").open("ab")
        self.process: subprocess.Popen | None = None

    def start(self) -> None:
        """Start it, and wait until it answers."""
        command = [
            sys.executable,
            "-m",
            "sermovox.cli",
            "start",
            "--port",
            str(self.port),
            "--workers",
            str(self._workers),
        ]
        self.process = subprocess.Popen(
            command, env=self.environment, start_new_session=True, stdout=self._log, stderr=self._log
        )
        self.wait()

    def wait(self) -> None:
        """Wait until it answers; start it again where the supervisor is gone."""
        until = time.monotonic() + _SETTLES_S
        while time.monotonic() < until:
            if certain(self.process).poll() is not None:
                time.sleep(0.5)
                self.start()
                return
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 1):
                return
            time.sleep(0.05)
        raise RuntimeError(f"The application does not answer; see {self._log.name}.")

    def end(self) -> None:
        if self.process and self.process.poll() is None:
            self.process.terminate()
            self.process.wait(30)
        self._log.close()
        if self.has_small_disk:
            subprocess.run(["umount", "-l", str(self.data)], capture_output=True)

    def children(self, module: str) -> list[int]:
        """The processes of the application that run a module."""
        return processes_of(self.data, module)


def processes_of(data: Path, module: str) -> list[int]:
    """The living processes of the application with that data folder that run a module, by /proc."""
    found = []
    for entry in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            words = (entry / "cmdline").read_bytes().split(b"\0")
            # Workers, which are forked, have the name alone; what has ended and is not yet taken note of has no words.
            name = (entry / "comm").read_text().strip()
            environment = (entry / "environ").read_bytes()
            if (module.encode() in words or name == module) and f"SERMOVOX_DATA={data}\0".encode() in environment:
                found.append(int(entry.name))
    return found


def _kill(keys: list[int]) -> None:
    for key in keys:
        with contextlib.suppress(ProcessLookupError):
            os.kill(key, signal.SIGKILL)


def kill_server(application: Application, chance: random.Random) -> None:
    _kill(application.children("sermovox.running.server"))


def kill_worker(application: Application, chance: random.Random) -> None:
    workers = application.children("sermovox.running.worker")
    _kill(chance.sample(workers, min(1, len(workers))))


def kill_workers(application: Application, chance: random.Random) -> None:
    _kill(application.children("sermovox.running.worker"))


def kill_watcher(application: Application, chance: random.Random) -> None:
    _kill(application.children("sermovox.running.watcher"))


def kill_supervisor(application: Application, chance: random.Random) -> None:
    process = certain(application.process)
    _kill([process.pid])
    process.wait()


def kill_all(application: Application, chance: random.Random) -> None:
    modules = ("sermovox.running.server", "sermovox.running.worker", "sermovox.running.watcher", "sermovox.cli")
    process = certain(application.process)
    _kill([process.pid, *(key for module in modules for key in application.children(module))])
    process.wait()


def truncate_caches(application: Application, chance: random.Random) -> None:
    for path in _caches(application, chance):
        with contextlib.suppress(OSError):
            os.truncate(path, chance.choice((0, path.stat().st_size // 2)))


def flip_caches(application: Application, chance: random.Random) -> None:
    for path in _caches(application, chance):
        with contextlib.suppress(OSError, ValueError), path.open("r+b") as file:
            at = chance.randrange(max(1, path.stat().st_size))
            file.seek(at)
            byte = file.read(1) or b"\0"
            file.seek(at)
            file.write(bytes([byte[0] ^ 0x10]))


def _caches(application: Application, chance: random.Random) -> list[Path]:
    kept = [path for path in (application.data / "cache").rglob("*") if path.is_file()]
    kept += list((application.data / "deliveries").glob("*/*/waveform*"))
    return [path for path in kept if chance.random() < 0.5]


def fill_disk(application: Application, chance: random.Random) -> None:
    """Fill the small disk to the last byte for a while."""
    filler = application.data / "filler"
    with contextlib.suppress(OSError), filler.open("wb", buffering=0) as file:
        while file.write(bytes(1 << 16)):
            pass
    with contextlib.suppress(OSError), filler.open("ab", buffering=0) as file:
        while file.write(b"x"):
            pass
    time.sleep(chance.uniform(0.5, 3))
    filler.unlink(missing_ok=True)


def lock_database(application: Application, chance: random.Random, seconds: float = 30.0) -> None:
    """Keep everybody else from writing for longer than they wait."""
    with contextlib.suppress(sqlite3.OperationalError), closing(_database(application)) as database:
        database.execute("BEGIN IMMEDIATE")
        time.sleep(seconds)
        database.rollback()


def lock_database_shortly(application: Application, chance: random.Random) -> None:
    lock_database(application, chance, chance.uniform(0.5, 3))


def set_clock_back(application: Application, chance: random.Random) -> None:
    """The clock set back by a day, as the application would see it: all that was written lies a day ahead."""
    with contextlib.suppress(sqlite3.OperationalError), closing(_database(application)) as database:
        database.execute("BEGIN IMMEDIATE")
        tables = database.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall()
        for (table,) in tables:
            columns = database.execute(f"PRAGMA table_info({table})").fetchall()
            for column in (each[1] for each in columns if each[2].lower() == "datetime"):
                if not (table == "django_tasks_database_dbtaskresult" and column == "run_after"):
                    ahead = f"strftime('%Y-%m-%d %H:%M:%f', {column}, '+1 day')"
                    database.execute(f"UPDATE {table} SET {column} = {ahead} WHERE {column} IS NOT NULL")
        database.commit()
    for folder in ("cache", "deliveries", "incoming", "recordings"):
        for path in (application.data / folder).rglob("*"):
            with contextlib.suppress(OSError):
                found = path.stat()
                os.utime(path, (found.st_atime + _DAY_S, found.st_mtime + _DAY_S))


def _database(application: Application) -> sqlite3.Connection:
    return sqlite3.connect(application.data / "sermovox.sqlite3", timeout=60, isolation_level=None)


FAULTS = {
    "server killed": (kill_server, 20),
    "a worker killed": (kill_worker, 20),
    "all workers killed": (kill_workers, 10),
    "watcher killed": (kill_watcher, 4),
    "supervisor killed": (kill_supervisor, 10),
    "all killed at once": (kill_all, 15),
    "caches cut short": (truncate_caches, 6),
    "caches flipped": (flip_caches, 6),
    "disk filled": (fill_disk, 6),
    "database locked for some seconds": (lock_database_shortly, 4),
    "database locked for 30 s": (lock_database, 0.6),
    "clock set back a day": (set_clock_back, 2),
}
"""What is done, and how often beside the others."""
