"""Stored recordings read against their hashes while files are made of them."""

import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime

from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.keeping import storage
from sermovox.recordings.models import Recording


class Damaged(MasteringError):
    """A stored recording is no longer what was brought in."""


@contextmanager
def prove_recordings(hashes: Sequence[str], *, since: datetime) -> Iterator[Callable[[], None]]:
    """Read recordings against their hashes beside what is done inside; once for each run, which began at `since`.

    Yields a function that waits for the outcome. It is to be called before anything made of them counts, and raises
    Damaged.
    """
    states: dict[str, str] = {}

    def read() -> None:
        for sha256 in hashes:
            states[sha256] = storage.proven_state(sha256, since=since.timestamp())

    reading = threading.Thread(target=read, daemon=True)
    reading.start()

    def proven() -> None:
        reading.join()
        wrong = [sha256 for sha256 in hashes if states.get(sha256) != "whole"]
        if wrong:
            recording = Recording.objects.filter(sha256=wrong[0]).first()
            name = recording.name if recording else Said("a-recording")
            state = Said("missing-from") if states.get(wrong[0]) == "missing" else Said("damaged-on")
            raise Damaged(Said("servers-disk-no-longer-what", name=name, state=state))

    try:
        yield proven
    finally:
        reading.join()
