"""Files measured several at a time, told in their order, with progress for the whole."""

import argparse
import os
import signal
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, TimeoutError
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from functools import partial
from multiprocessing import Array
from pathlib import Path
from typing import Any

from mastering.errors import MasteringError
from mastering.meters.measurement import Measurement, measure
from mastering.said import Said
from sermovox.running.speaking import spoken
from sermovox.terminal.said import time_left

Found = Measurement | MasteringError
_LOOKS_EVERY_S = 0.3
_shares: Any = None
"""How far each file is, 0.0 to 1.0, in memory that the processes have in common."""


def takes_jobs(command: argparse.ArgumentParser) -> None:
    """Let a command measure several files at a time."""
    command.add_argument(
        "--jobs",
        type=_count,
        default=os.cpu_count() or 1,
        metavar="N",
        help=Said("how-many-files-measured-time"),
    )


def _count(text: str) -> int:
    if not text.isdecimal() or not int(text):
        raise argparse.ArgumentTypeError(Said("no-number-files-give-1", text=text))
    return int(text)


def measured(paths: Sequence[Path], jobs: int) -> Iterator[tuple[Path, Found]]:
    """Each file in its order with what was measured of it, or why it could not be."""
    progress = _Progress(paths)
    try:
        if min(jobs, len(paths)) == 1:
            for at, path in enumerate(paths):
                found = _found(path, partial(progress.tell, at))
                progress.done(at)
                yield path, found
        else:
            yield from _by_processes(paths, min(jobs, len(paths)), progress)
    finally:
        progress.clear()


def _by_processes(paths: Sequence[Path], jobs: int, progress: "_Progress") -> Iterator[tuple[Path, Found]]:
    # Threads would wait for each other: measuring takes many short steps, each of which wants Python's lock.
    shares = Array("d", len(paths))
    with ProcessPoolExecutor(jobs, initializer=_begin, initargs=(shares,)) as pool:
        coming = [pool.submit(_measured, at, path) for at, path in enumerate(paths)]
        try:
            for at, (path, each) in enumerate(zip(paths, coming, strict=True)):
                found = _awaited(each, lambda: progress.show(shares[:]))
                progress.done(at)
                yield path, found
        finally:
            pool.shutdown(wait=False, cancel_futures=True)


def _awaited(coming: Future[Found], look: Callable[[], None]) -> Found:
    while True:
        look()
        with suppress(TimeoutError):
            try:
                return coming.result(_LOOKS_EVERY_S)
            except BrokenProcessPool:
                return MasteringError(Said("process-measured-ended-from-outside"))


def _begin(shares: Any) -> None:
    """In each process: where to tell how far it is; the terminal's Ctrl+C ends it without a word."""
    global _shares
    _shares = shares
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def _measured(at: int, path: Path) -> Found:
    def tell(share: float) -> None:
        _shares[at] = share

    return _found(path, tell)


def _found(path: Path, tell: Callable[[float], None]) -> Found:
    try:
        return measure(path, progress=tell)
    except MasteringError as error:
        return error


class _Progress:
    """A line on standard error that tells how far all of it is and how long it will take, where somebody looks."""

    def __init__(self, paths: Sequence[Path]):
        self._bytes = [path.stat().st_size if path.is_file() else 0 for path in paths]
        self._shares = [0.0] * len(paths)
        self._done = 0
        self._began = self._told = time.monotonic()
        self._shown = False

    def tell(self, at: int, share: float) -> None:
        """So much of one is done."""
        self._shares[at] = share
        if time.monotonic() - self._told >= _LOOKS_EVERY_S:
            self.show(self._shares)

    def done(self, at: int) -> None:
        """One is told."""
        self._shares[at] = 1.0
        self._done += 1
        self.clear()

    def show(self, shares: Sequence[float]) -> None:
        """Tell how far they are."""
        self._told = time.monotonic()
        if not sys.stderr.isatty():
            return
        # What was told may have said less of itself than all.
        so_far = [max(own, other) for own, other in zip(self._shares, shares, strict=True)]
        share = sum(a * b for a, b in zip(so_far, self._bytes, strict=True)) / max(1, sum(self._bytes))
        told = spoken(Said("measuring-files", done=self._done, of=len(so_far)))
        said = f"{told}, {share:.0%}{time_left(self._began, share)}"
        print(f"\r{said}\033[K", end="", file=sys.stderr, flush=True)
        self._shown = True

    def clear(self) -> None:
        """Make room for what is told of a file."""
        if self._shown:
            print("\r\033[K", end="", file=sys.stderr, flush=True)
            self._shown = False
