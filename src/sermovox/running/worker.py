"""A worker's process: takes tasks from the queue until told to stop."""

import multiprocessing
import os
import signal
from contextlib import suppress
from importlib import import_module
from pathlib import Path

from sermovox.running import child

ENVIRONMENT = {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "MALLOC_ARENA_MAX": "1"}
"""What a worker and the server are started with: libraries start no threads of their own, and glibc keeps no memory of
its own for each thread.
"""
LOADED = ("sermovox.running.ready", "scipy.ndimage", "scipy.signal")
"""What every worker needs, and takes seconds to load."""
ENDINGS = [signal.SIGINT, signal.SIGTERM] + ([signal.SIGHUP] if hasattr(signal, "SIGHUP") else [])
"""The signals that ask the application to end."""
_NAME = "sermovox.running.worker"
_NICENESS = 10
"""Pages come first: a file in the making takes what is left of the processor."""


def main(identity: str, queues: str) -> None:
    """Work until told to stop, in a process that was forked off one that has all loaded."""
    if multiprocessing.parent_process() and hasattr(os, "setsid"):
        os.setsid()
        # What lists of processes call it, where they can be told.
        with suppress(OSError):
            Path("/proc/self/comm").write_text(_NAME)
    child.end_with_parent()
    if hasattr(signal, "pthread_sigmask"):
        # The process that this one is forked off lets them pass.
        signal.pthread_sigmask(signal.SIG_UNBLOCK, ENDINGS)
    if hasattr(os, "nice"):
        os.nice(_NICENESS)
    child.run(lambda: _work(identity, queues))


def _work(identity: str, queues: str) -> None:
    for module in LOADED:
        import_module(module)
    import_module("sermovox.running.waiting").work(identity, queues.split(","))
