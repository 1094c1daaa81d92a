"""A process of the application, which the supervisor starts and which ends with it.

    python -m sermovox.running.child sermovox.running.server 127.0.0.1 8420

It is told by its standard input when to begin, so that it may load what it needs before, and ends when that is closed.
What it cannot go on for is kept in a sentence, for the supervisor to tell.
"""

import multiprocessing
import os
import signal
import subprocess
import sys
import threading
from collections.abc import Callable
from contextlib import suppress
from importlib import import_module
from multiprocessing.process import BaseProcess

from mastering.certain import certain
from sermovox.work import lacking


class CannotStart(Exception):
    """The application cannot start; the text says why."""


_BEGIN = b"b"
_begins = threading.Event()


def start(module: str, *arguments: str) -> subprocess.Popen:
    """Start a process that runs the `main` of a module once it is told to `begin`."""
    command = [sys.executable, "-m", "sermovox.running.child", module, *arguments]
    return subprocess.Popen(command, stdin=subprocess.PIPE, start_new_session=True)


def begin(process: subprocess.Popen) -> None:
    """Tell a process that was started that it may begin."""
    with suppress(OSError):
        os.write(certain(process.stdin).fileno(), _BEGIN)


def wait_to_begin() -> None:
    """Called by such a process once it has loaded what it needs."""
    _begins.wait()


def end_group(process: subprocess.Popen | BaseProcess) -> None:
    """End a process that has a group of its own, and what it had started: that may still hold the port."""
    _kill_group(certain(process.pid))


def _kill_group(group: int) -> None:
    if hasattr(os, "killpg"):
        with suppress(ProcessLookupError, PermissionError):
            os.killpg(group, signal.SIGKILL)


def end_with_parent() -> None:
    """End this process when the one that started it is gone, even if that was killed."""
    parent = multiprocessing.parent_process()

    def watch() -> None:
        if parent:
            parent.join()
        else:
            # Not through sys.stdin, whose lock a process forked from this one would wait for.
            while os.read(0, 1) == _BEGIN:
                _begins.set()
        if hasattr(os, "getpgrp") and os.getpid() == os.getpgrp():
            _kill_group(os.getpid())
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


def run(does: Callable[[], object]) -> None:
    """Do what this process is there for. Where it cannot it ends, without a traceback where the reason is one of those
    that are foreseen: a package that is missing or does not load, something the system refuses.
    """
    try:
        does()
    except (ImportError, OSError) as error:
        lacking.keep_reason(f"{error}.")
        sys.exit(1)
    except Exception as error:
        lacking.keep_reason(f"{type(error).__name__}: {error}.")
        raise


def main(module: str, *arguments: str) -> None:
    """Run the `main` of a module with these arguments."""
    # Its own events are set: this module runs under another name.
    this = import_module("sermovox.running.child")
    this.end_with_parent()
    this.run(lambda: import_module(module).main(*arguments))


if __name__ == "__main__":
    main(*sys.argv[1:])
