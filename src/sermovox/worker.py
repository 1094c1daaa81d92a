"""A worker's process: takes tasks from the queue until told to stop."""

import os
import signal
import sys
import threading

ENVIRONMENT = {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "MALLOC_ARENA_MAX": "1"}
"""What a worker and the server are started with: libraries start no threads of their own, and glibc keeps no memory of
its own for each thread.
"""
_MEASURES_NOTHING = "sending"
_NICENESS = 10
"""Pages come first: a file in the making takes what is left of the processor."""
_LOOK_EVERY_S = 0.3


def end_with_parent() -> None:
    """End this process when the one that started it is gone, even if that was killed."""

    def watch() -> None:
        # Not through sys.stdin, whose lock a process forked from this one would wait for.
        os.read(0, 1)
        if hasattr(os, "killpg") and os.getpid() == os.getpgrp():
            os.killpg(os.getpgrp(), signal.SIGKILL)
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


def main(worker_id: str, queues: str) -> None:
    end_with_parent()
    if hasattr(os, "nice"):
        os.nice(_NICENESS)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "sermovox.settings")
    import django

    if queues != _MEASURES_NOTHING:
        # Loaded before a task waits for them, and only here: the other processes measure nothing.
        import scipy.ndimage
        import scipy.signal  # noqa: F401
    from django.core.management import call_command

    django.setup()
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
