"""How stand-ins that speak HTTP are served: by cheroot, for as long as they are wanted."""

import threading
import time
from collections.abc import Callable

from cheroot.wsgi import Server

_TRIES_EVERY_S = 5.0


def serve_for_ever(made: Callable[[], Server]) -> None:
    """Serve for as long as the process lives; where somebody else has the port, wait for it."""
    while True:
        try:
            made().start()
        except OSError:
            time.sleep(_TRIES_EVERY_S)
        else:
            return


class Served:
    """A server in a thread of its own, for as long as it is wanted."""

    def __init__(self, server: Server):
        self._server = server
        self._server.prepare()
        self.port = self._server.bind_addr[1]
        self._thread = threading.Thread(target=self._server.serve, daemon=True)
        self._thread.start()

    def __enter__(self) -> "Served":
        return self

    def __exit__(self, *exc: object) -> None:
        self._server.stop()
        self._thread.join(5)
