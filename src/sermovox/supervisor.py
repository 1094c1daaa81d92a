"""Starts the web server and the workers, keeps them running, and stops them cleanly."""

import contextlib
import multiprocessing
import os
import signal
import socket
import subprocess
import sys
import threading
import time
import uuid
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import timedelta
from math import inf
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import cast

from django.conf import settings

from mastering.certain import certain
from sermovox import backups, queue, room
from sermovox.accounts.middleware import is_loopback
from sermovox.recovery import clear_away, look_after, requeue_tasks, seen_to
from sermovox.worker import ENVIRONMENT, LOADED, main

_LOOK_EVERY_S = 0.5
_LOOK_AFTER_EVERY_S = 5.0
_CLEAR_AWAY_EVERY_S = 24 * 3600.0
_PATIENCE_S = 8.0
_STARTING_S = 60.0
_SENDERS = 3
"""So many outlets are sent to at once."""
if sys.platform == "win32":
    _FORKING = multiprocessing.get_context("spawn")
else:
    _FORKING = multiprocessing.get_context("forkserver")
"""How workers are started: off a process that has loaded already, once and for all of them, what takes seconds."""

_Process = subprocess.Popen | BaseProcess


class CannotStart(Exception):
    """The application cannot start; the text says why."""


@dataclass(eq=False)
class Child:
    """A process that is started again when it dies.

    Each start has an identity of its own, handed to `begin`, so that what a dead worker left behind is known from what
    a living one is doing.
    """

    name: str
    begin: Callable[[str], _Process]
    process: _Process | None = field(default=None, init=False)
    identity: str = field(default="", init=False)

    def start(self) -> None:
        self.identity = uuid.uuid4().hex
        self.process = self.begin(self.identity)

    @property
    def running(self) -> _Process:
        """Of one that was started."""
        return cast(_Process, self.process)

    @property
    def status(self) -> int | None:
        """What it ended with; None while it runs."""
        process = self.running
        return process.poll() if isinstance(process, subprocess.Popen) else process.exitcode

    def watch(self) -> None:
        if self.status is not None:
            print(f"The {self.name} stopped (status {self.status}); starting it again.", flush=True)
            self._end_group()
            self.start()

    def end(self, until: float) -> None:
        """Wait for its end until then, on the monotonic clock, and no longer."""
        self._wait(max(0.1, until - time.monotonic()))
        if self.status is None:
            # A file in the making is made anew at the next start; see requeue_tasks.
            self.running.kill()
            self._wait(None)

    def _wait(self, seconds: float | None) -> None:
        process = self.running
        if isinstance(process, subprocess.Popen):
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(seconds)
        else:
            process.join(seconds)

    def _end_group(self) -> None:
        """End what the dead process itself had started: it may still hold the port."""
        if hasattr(os, "killpg"):
            with contextlib.suppress(ProcessLookupError):
                os.killpg(certain(self.running.pid), signal.SIGKILL)


class Supervisor:
    """One web server and some workers."""

    def __init__(self, *, host: str, port: int, workers: int, demo: bool):
        if demo and not is_loopback(host):
            raise CannotStart(
                f"Refused: the automatic sign-in of the demonstration is for this machine only, and {host} can be "
                "reached from others. Leave out the demonstration, or listen on 127.0.0.1."
            )
        _refuse_taken_port(host, port)
        self._host, self._port = host, port
        self._stopping = threading.Event()
        server = Child("web server", _program("sermovox.server", host, str(port)))
        work = f"{queue.LONG},{queue.SHORT}"
        self._workers = [Child("worker", _worker_for(work)) for _ in range(workers)]
        # What is over in seconds never waits until hours of sound are.
        self._workers.append(Child("worker for short work", _worker_for(queue.SHORT)))
        self._children = [server, *self._workers]
        # Lines are slow, and wait for nobody's encoder; nor does that wait for them, nor one for another.
        self._senders = [Child("worker that sends", _worker_for(queue.SENDING)) for _ in range(_SENDERS)]
        self._workers += self._senders
        if demo:
            place = str(Path(settings.DATA_DIR) / "stand-ins")
            self._children.append(Child("stand-ins", _program("sermovox.standins", str(settings.STAND_IN_PORT), place)))
        if settings.WATCHED_DIR:
            watching = _program("sermovox.watcher", str(settings.WATCHED_DIR))
            self._children.append(Child("watcher of the folder", watching))

    @property
    def address(self) -> str:
        host = f"[{self._host}]" if ":" in self._host else self._host
        return f"http://{host}:{self._port}/"

    def run(self) -> None:
        """Run until told to stop by SIGINT or SIGTERM."""
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, lambda *_: self._stopping.set())
        os.environ.update(ENVIRONMENT)
        _FORKING.set_forkserver_preload(list(LOADED))
        # Whatever a former run left in the middle goes back into the queue.
        seen_to(requeue_tasks)
        seen_to(room.keep_reserve)
        try:
            for child in self._children:
                child.start()
            threading.Thread(target=self._look_after, daemon=True).start()
            self._wait_until_answering()
            print(f"Sermovox is ready at {self.address}\nStop it with Ctrl+C.", flush=True)
            while not self._stopping.wait(_LOOK_EVERY_S):
                for child in list(self._children):
                    child.watch()
        finally:
            self._stop()

    def _look_after(self) -> None:
        """See to what waits, beside watching the processes: the database may keep this waiting for a while."""
        longest = timedelta(hours=settings.LONGEST_TASK_H)
        looked_at = cleared_at = -inf
        while not self._stopping.wait(_LOOK_EVERY_S):
            seen_to(lambda: requeue_tasks([child.identity for child in self._workers if child.process]))
            self._start_sender()
            if time.monotonic() - looked_at > _LOOK_AFTER_EVERY_S:
                look_after()
                seen_to(lambda: self._end_workers(queue.workers_at_one_task_for(longest)))
                seen_to(backups.make_nightly)
                looked_at = time.monotonic()
            if time.monotonic() - cleared_at > _CLEAR_AWAY_EVERY_S:
                clear_away()
                cleared_at = time.monotonic()

    def _start_sender(self) -> None:
        """Start a worker that sends, while something waits for one and there are not all of them."""
        resting = next((child for child in self._senders if child not in self._children), None)
        if resting and queue.waits(queue.SENDING):
            resting.start()
            self._children.append(resting)

    def _end_workers(self, identities: set[str]) -> None:
        """End workers that will not be done; they are started anew like any that died."""
        for child in self._workers:
            if child.identity in identities:
                child.running.kill()

    def _wait_until_answering(self) -> None:
        for _ in range(int(_STARTING_S / 0.1)):
            if self._stopping.is_set():
                return
            with socket.socket(socket.AF_INET6 if ":" in self._host else socket.AF_INET) as probe:
                if probe.connect_ex((self._host, self._port)) == 0:
                    return
            time.sleep(0.1)
        raise CannotStart(f"The web server does not answer at {self.address}.")

    def _stop(self) -> None:
        running = [child for child in self._children if child.process and child.status is None]
        for child in running:
            child.running.terminate()
        until = time.monotonic() + _PATIENCE_S
        for child in running:
            child.end(until)
        seen_to(requeue_tasks)


def _refuse_taken_port(host: str, port: int) -> None:
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            raise CannotStart(
                f"Port {port} on {host} cannot be used ({error.strerror}). Choose another with --port."
            ) from error


def _program(module: str, *arguments: str) -> Callable[[str], subprocess.Popen]:
    """Starts a module as a program. It watches its standard input: when this process dies, however it dies, the pipe
    closes.
    """
    command = [sys.executable, "-m", module, *arguments]
    return lambda _: subprocess.Popen(command, stdin=subprocess.PIPE, start_new_session=True)


def _worker_for(queues: str) -> Callable[[str], BaseProcess]:
    """Starts a worker. It watches this process, and ends with it."""

    def begun(identity: str) -> BaseProcess:
        process = _FORKING.Process(target=main, args=(identity, queues))
        process.start()
        return process

    return begun
