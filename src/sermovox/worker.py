"""A worker's process: takes tasks from the queue until told to stop."""

import multiprocessing
import os
import signal
import sys
import threading
from contextlib import suppress
from importlib import import_module
from pathlib import Path

ENVIRONMENT = {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "MALLOC_ARENA_MAX": "1"}
"""What a worker and the server are started with: libraries start no threads of their own, and glibc keeps no memory of
its own for each thread.
"""
LOADED = ("sermovox.ready", "scipy.ndimage", "scipy.signal")
"""What every worker needs, and takes seconds to load."""
_NAME = "sermovox.worker"
_NICENESS = 10
"""Pages come first: a file in the making takes what is left of the processor."""
_LOOK_EVERY_S = 0.3


def end_with_parent() -> None:
    """End this process when the one that started it is gone, even if that was killed."""
    parent = multiprocessing.parent_process()

    def watch() -> None:
        if parent:
            parent.join()
        else:
            # Not through sys.stdin, whose lock a process forked from this one would wait for.
            os.read(0, 1)
        if hasattr(os, "killpg") and os.getpid() == os.getpgrp():
            os.killpg(os.getpgrp(), signal.SIGKILL)
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


def main(worker_id: str, queues: str) -> None:
    """Work until told to stop: as a program, or in a process that was forked off one that has all loaded."""
    if multiprocessing.parent_process() and hasattr(os, "setsid"):
        os.setsid()
        # What lists of processes call it, where they can be told.
        with suppress(OSError):
            Path("/proc/self/comm").write_text(_NAME)
    end_with_parent()
    if hasattr(os, "nice"):
        os.nice(_NICENESS)
    for module in LOADED:
        import_module(module)
    from django.core.management import call_command

    call_command(
        "db_worker",
        queue_name=queues,
        interval=_LOOK_EVERY_S,
        worker_id=worker_id,
        startup_delay=False,
        reload=False,
        verbosity=0,
    )


if __name__ == "__main__":
    main(*sys.argv[1:])
