"""How stand-ins are served, for as long as they are wanted: by cheroot those that speak HTTP, others in a loop."""

import asyncio
import threading
import time
from collections.abc import Awaitable, Callable
from typing import Any

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


def loop_for_ever(begun: Callable[[], Awaitable[Any]]) -> None:
    """The same for a server in a loop of its own."""

    async def served() -> None:
        while True:
            try:
                server = await begun()
            except OSError:
                await asyncio.sleep(_TRIES_EVERY_S)
            else:
                await asyncio.Event().wait()
                server.close()

    asyncio.run(served())


class Looped:
    """A server in a loop and a thread of its own, for as long as it is wanted."""

    def __init__(self, begun: Awaitable[Any]):
        self._loop = asyncio.new_event_loop()
        self.server = self._loop.run_until_complete(begun)
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)
        self._thread.start()

    def __enter__(self) -> "Looped":
        return self

    def __exit__(self, *exc: object) -> None:
        self._loop.call_soon_threadsafe(self.server.close)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)
