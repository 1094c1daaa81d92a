"""Starts the web server and the workers, keeps them running, and stops them cleanly."""

import contextlib
import errno
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
from multiprocessing import forkserver, resource_tracker
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import cast

from django.conf import settings

from mastering.certain import certain
from mastering.said import Said
from sermovox.accounts.loopback import is_loopback
from sermovox.keeping import backups, rights, room
from sermovox.running import child
from sermovox.running.changes import Changes
from sermovox.running.child import CannotStart
from sermovox.running.speaking import say
from sermovox.running.worker import ENDINGS, ENVIRONMENT, LOADED, main
from sermovox.work import lacking, queue
from sermovox.work.recovery import clear_away, look_after, requeue_tasks, seen_to
from sermovox.work.run import Run

_LOOK_EVERY_S = 0.5
_LOOK_FIRST_S = 0.05
_LOOK_AT_MOST_EVERY_S = 0.3
_LOOK_AT_LEAST_EVERY_S = 2.0
_LOOK_AFTER_EVERY_S = 5.0
_QUIET_S = 60.0
"""After so long without a change in the database, what waits is looked after that seldom."""
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
_SOON_S = 20.0
"""A process that ends by itself within this time of its start has not really started."""
_ENDED_BY_OTHERS = (-signal.SIGTERM, -9)


def _say(sentence: str) -> None:
    """Print it, where there is still somebody to read it."""
    with contextlib.suppress(OSError, ValueError):
        say(sentence, flush=True)


@dataclass(eq=False)
class Child:
    """A process that is started again when it ends: at once, or with growing pauses where it ends as soon as it starts.

    Each start has an identity of its own, handed to `begin`, so that what a dead worker left behind is known from what
    a living one is doing.
    """

    name: str
    begin: Callable[[str], _Process]
    process: _Process | None = field(default=None, init=False)
    identity: str = field(default="", init=False)
    left_out: str = field(default="", init=False)
    """Why it does not run, where it could not be started."""
    _in_vain: int = field(default=0, init=False)
    _started_at: float = field(default=0.0, init=False)
    _due_at: float = field(default=inf, init=False)

    def start(self) -> None:
        # From here on it may take tasks.
        self.process = None
        self.identity, self._started_at, self._due_at = uuid.uuid4().hex, time.monotonic(), inf
        self.process = self.begin(self.identity)

    @property
    def is_living(self) -> bool:
        return bool(self.identity) and (self.process is None or self.status is None)

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
        now = time.monotonic()
        if self.status is None:
            if self._in_vain and now - self._started_at > _SOON_S:
                self._in_vain, self.left_out = 0, ""
                lacking.is_there(self.name)
        elif now >= self._due_at:
            self.start()
        elif self._due_at == inf:
            self._due_at = now + self._pause_s()

    def _pause_s(self) -> float:
        """It has ended: what is said of that, and how long it is left alone."""
        child.end_group(self.running)
        if time.monotonic() - self._started_at > _SOON_S or self.status in _ENDED_BY_OTHERS:
            self._in_vain = 0
            _say(f"The {self.name} stopped (status {self.status}); starting it again.")
            return 0.0
        self._in_vain += 1
        if self._in_vain == len(lacking.PAUSES_S):
            reason = lacking.take_reason(certain(self.running.pid)) or f"It ended with status {self.status}."
            self.left_out = lacking.note(self.name, reason)
            _say(self.left_out)
        return lacking.PAUSES_S[min(self._in_vain, len(lacking.PAUSES_S)) - 1]

    def end(self, until: float) -> None:
        """Wait for its end until then, on the monotonic clock, and no longer; nothing that it had started is left."""
        self._wait(max(0.1, until - time.monotonic()))
        if self.status is None:
            # A file in the making is made anew at the next start; see requeue_tasks.
            self.running.kill()
            self._wait(None)
        child.end_group(self.running)

    def _wait(self, seconds: float | None) -> None:
        process = self.running
        if isinstance(process, subprocess.Popen):
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(seconds)
        else:
            process.join(seconds)


class Supervisor:
    """One web server and some workers."""

    def __init__(
        self,
        *,
        host: str,
        port: int,
        workers: int,
        demo: bool,
        before: Run | None = None,
        loading: subprocess.Popen | None = None,
    ):
        """`before` is the run before this one, which may have left its web server behind; `loading` is the process of
        this one's, where that was started before and waits to begin.
        """
        if demo and not is_loopback(host):
            raise CannotStart(Said("refused-automatic-sign-demonstration-machine", host=host))
        _refuse_taken_port(host, port, before or Run())
        self._host, self._port = host, port
        self._stopping = threading.Event()
        self._server = Child("web server", _program("sermovox.running.server", host, str(port), loading=loading))
        work = f"{queue.LONG},{queue.SHORT}"
        self._workers = [Child(lacking.WORKER, _worker_for(work)) for _ in range(workers)]
        # What is over in seconds never waits until hours of sound are.
        self._workers.append(Child(lacking.SHORT_WORKER, _worker_for(queue.SHORT)))
        self._children = [self._server]
        self._others = list(self._workers)
        # Lines are slow, and wait for nobody's encoder; nor does that wait for them, nor one for another.
        self._senders = [Child(lacking.SENDER, _worker_for(queue.SENDING)) for _ in range(_SENDERS)]
        self._workers += self._senders
        if demo:
            place = str(Path(settings.DATA_DIR) / "stand-ins")
            serving = _program("sermovox.standins.together", str(settings.STAND_IN_PORT), place)
            self._others.append(Child(lacking.STAND_INS, serving))
        if settings.WATCHED_DIR:
            watching = _program("sermovox.running.watcher", str(settings.WATCHED_DIR))
            self._others.append(Child(lacking.WATCHER, watching))

    def run(self, began: Callable[[int], object] = bool) -> None:
        """Run until told to stop by a signal, or by the terminal that it was started from being closed. `began` is
        called with the process of the web server.
        """
        for number in ENDINGS:
            # Whoever starts it so that it outlives the terminal has the signal of that ignored.
            if signal.getsignal(number) != signal.SIG_IGN:
                signal.signal(number, lambda *_: self._stopping.set())
        os.environ.update(ENVIRONMENT)
        rights.keep_own(Path(settings.DATA_DIR))
        lacking.forget()
        # Whatever a former run left in the middle goes back into the queue.
        seen_to(requeue_tasks)
        seen_to(room.keep_reserve)
        try:
            self._server.start()
            began(certain(self._server.running.pid))
            self._wait_until_answering()
            # Only now, as they take the processor for a while to load what they need: pages come first.
            _begin_loading_workers()
            for each in self._others:
                if not self._stopping.is_set():
                    self._children.append(each)
                    each.start()
            threading.Thread(target=self._look_after, daemon=True).start()
            while not self._stopping.wait(_LOOK_EVERY_S):
                self._watch()
        finally:
            self._stop()

    def _watch(self) -> None:
        """Start again what has ended."""
        for each in list(self._children):
            each.watch()
        if self._server.left_out:
            raise CannotStart(self._server.left_out)

    def _wait_until_answering(self) -> None:
        until = time.monotonic() + _STARTING_S
        while not self._stopping.wait(_LOOK_FIRST_S):
            self._watch()
            with socket.socket(socket.AF_INET6 if ":" in self._host else socket.AF_INET) as probe:
                if probe.connect_ex((self._host, self._port)) == 0:
                    _say(Said("sermovox-ready-stop-ctrl-c", address_of=address_of(self._host, self._port)))
                    return
            if time.monotonic() > until:
                raise CannotStart(Said("web-server-does-not-answer", address_of=address_of(self._host, self._port)))

    def _look_after(self) -> None:
        """See to what waits, beside watching the processes: the database may keep this waiting for a while."""
        longest = timedelta(hours=settings.LONGEST_TASK_H)
        looked_at = cleared_at = -inf
        changes, seen, changed_at = Changes(), (-1, [""]), time.monotonic()
        while not self._stopping.wait(_LOOK_AT_MOST_EVERY_S):
            changes.wait(seen[0], _LOOK_AT_LEAST_EVERY_S)
            now = time.monotonic()
            # One that is started anew may have left something in the middle.
            before, seen = seen, (changes.number(), [each.identity for each in self._children])
            if seen != before:
                changed_at = now
                seen_to(lambda: requeue_tasks(self._living))
                seen_to(self._start_sender)
            # What happens shows in the database; what only time brings on is looked for now and then.
            if now - looked_at > (_LOOK_AFTER_EVERY_S if now - changed_at < _QUIET_S else _QUIET_S):
                look_after()
                seen_to(lambda: self._end_workers(queue.workers_at_one_task_for(longest)))
                seen_to(backups.make_nightly)
                looked_at = now
            if now - cleared_at > _CLEAR_AWAY_EVERY_S:
                clear_away()
                cleared_at = now

    def _living(self) -> set[str]:
        """The identities of the workers that may be at a task."""
        return {each.identity for each in self._workers if each.is_living}

    def _start_sender(self) -> None:
        """Start a worker that sends, while something waits for one and there are not all of them."""
        resting = next((each for each in self._senders if each not in self._children), None)
        if resting and queue.waits(queue.SENDING):
            resting.start()
            self._children.append(resting)

    def _end_workers(self, identities: set[str]) -> None:
        """End workers that will not be done; they are started anew like any that died."""
        for each in self._workers:
            if each.identity in identities:
                each.running.kill()

    def _stop(self) -> None:
        begun = [each for each in self._children if each.process is not None]
        for each in begun:
            if each.status is None:
                each.running.terminate()
        until = time.monotonic() + _PATIENCE_S
        for each in begun:
            each.end(until)
        seen_to(requeue_tasks)


def address_of(host: str, port: int) -> str:
    """Where a browser finds what listens there."""
    return f"http://[{host}]:{port}/" if ":" in host else f"http://{host}:{port}/"


def _refuse_taken_port(host: str, port: int, before: Run) -> None:
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            if before.address == address_of(host, port) and _is_there(before.server):
                raise CannotStart(
                    Said("port-still-held-web-server", port=port, host=host, server=before.server)
                ) from error
            if error.errno == errno.EADDRINUSE:
                raise CannotStart(
                    Said("port-use-another-program-sermovox", port=port, host=host, port_2=port + 1)
                ) from error
            raise CannotStart(
                Said("port-cannot-used-choose-another", port=port, host=host, strerror=error.strerror)
            ) from error


def _is_there(group: int) -> bool:
    """Whether a process of that group still runs."""
    if group <= 0 or not hasattr(os, "killpg"):
        return False
    try:
        os.killpg(group, 0)
    except OSError:
        return False
    return True


def _program(
    module: str, *arguments: str, loading: subprocess.Popen | None = None
) -> Callable[[str], subprocess.Popen]:
    """Starts a module as a process of its own, or the first time has the one begin that is there already."""
    waiting = [loading] if loading else []

    def begun(_: str) -> subprocess.Popen:
        process = waiting.pop() if waiting else child.start(module, *arguments)
        child.begin(process)
        return process

    return begun


def _begin_loading_workers() -> None:
    """Start the process that workers are forked off. What a terminal sends to all of its processes ends this one here
    alone: where that one went before its workers are begun, there would be no orderly end.
    """
    if sys.platform == "win32":
        return
    _FORKING.set_forkserver_preload(list(LOADED))
    # It lets signals through again, so it comes first.
    resource_tracker.ensure_running()
    before = signal.pthread_sigmask(signal.SIG_BLOCK, ENDINGS)
    try:
        forkserver.ensure_running()
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def _worker_for(queues: str) -> Callable[[str], BaseProcess]:
    """Starts a worker. It watches this process, and ends with it."""

    def begun(identity: str) -> BaseProcess:
        process = _FORKING.Process(target=main, args=(identity, queues))
        process.start()
        return process

    return begun
