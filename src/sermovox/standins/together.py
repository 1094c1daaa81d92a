"""All stand-ins in one process, each at a port of its own."""

import threading
from collections.abc import Callable
from pathlib import Path

from sermovox.standins import archive, mailbox, share, station, store
from sermovox.standins.known import ARCHIVE, MAILBOX, SHARE, STATION, STORE, StandIn

_SERVED: tuple[tuple[StandIn, Callable[[int, Path], None]], ...] = (
    (STATION, station.serve),
    (ARCHIVE, archive.serve),
    (SHARE, share.serve),
    (STORE, store.serve),
    (MAILBOX, mailbox.serve),
)


def main(first_port: str, folder: str) -> None:
    """Serve until told to stop."""
    threads = []
    for one, serve in _SERVED:
        port = int(first_port) + (one.later_ports or 0)
        threads.append(threading.Thread(target=serve, args=(port, Path(folder) / one.name), daemon=True))
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
