"""Work on one file by two cores: what comes next is made ready while this is taken, and what was made is put away."""

import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from queue import Empty, Queue
from typing import Generic, TypeVar

Item = TypeVar("Item")
_MOST_WAITING = 4
"""So many blocks are on their way at the most: memory does not grow with the length of a recording."""
_LOOKS_EVERY_S = 0.01


class Ahead(Generic[Item]):
    """The same items in the same order, each made ready in a thread of its own while the one before is taken.

    What goes wrong there goes wrong where the item is taken. Close it before what it reads from is closed.
    """

    def __init__(self, items: Iterator[Item]):
        self._waiting: Queue[Future[Item] | None] = Queue(_MOST_WAITING)
        self._given_up = threading.Event()
        self._maker = threading.Thread(target=self._make_ready, args=(items,), daemon=True)
        self._maker.start()

    def __iter__(self) -> Iterator[Item]:
        while item := self._waiting.get():
            yield item.result()

    def close(self) -> None:
        """Make nothing more ready; the thread is over then."""
        self._given_up.set()
        while self._maker.is_alive():
            # It may wait for room.
            try:
                self._waiting.get(timeout=_LOOKS_EVERY_S)
            except Empty:
                continue

    def _make_ready(self, items: Iterator[Item]) -> None:
        try:
            for item in items:
                ready: Future[Item] = Future()
                ready.set_result(item)
                self._waiting.put(ready)
                if self._given_up.is_set():
                    return
        except BaseException as error:
            failed: Future[Item] = Future()
            failed.set_exception(error)
            self._waiting.put(failed)
            return
        self._waiting.put(None)


class Behind(Generic[Item]):
    """Does something with each item in a thread of its own, in their order, a few items behind."""

    def __init__(self, do: Callable[[Item], None]):
        self._do, self._thread = do, ThreadPoolExecutor(1)
        self._under_way: list[Future[None]] = []

    def put(self, item: Item) -> None:
        """Hand one over. Raises what went wrong with an earlier one."""
        self._under_way.append(self._thread.submit(self._do, item))
        while len(self._under_way) > _MOST_WAITING:
            self._under_way.pop(0).result()

    def finish(self) -> None:
        """Wait for the last. Raises what went wrong with one."""
        while self._under_way:
            self._under_way.pop(0).result()

    def close(self) -> None:
        """Wait for what was begun, and leave the rest; the thread is over then."""
        self._thread.shutdown(cancel_futures=True)
