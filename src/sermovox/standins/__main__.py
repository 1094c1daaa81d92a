"""All stand-ins in one process, each at a port of its own."""

import sys
import threading
from collections.abc import Callable
from pathlib import Path

from sermovox.standins import archive, share, station
from sermovox.worker import end_with_parent


def main(first_port: str, folder: str) -> None:
    """Serve until told to stop."""
    end_with_parent()
    served: tuple[tuple[str, Callable[[int, Path], None]], ...] = (
        ("station", station.serve),
        ("archive", archive.serve),
        ("share", share.serve),
    )
    threads = [
        threading.Thread(target=serve, args=(int(first_port) + later, Path(folder) / name), daemon=True)
        for later, (name, serve) in enumerate(served)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


if __name__ == "__main__":
    main(*sys.argv[1:])
