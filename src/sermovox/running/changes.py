"""Whether anybody has written into the database: for processes that wait for work, without asking for it."""

import sqlite3
import time
from pathlib import Path

from django.conf import settings

_LOOK_EVERY_S = 0.15


class Changes:
    """SQLite keeps a number that is another after each change by any other connection; to read it costs some
    microseconds, takes no lock that anybody waits for and writes nothing.

    https://www.sqlite.org/pragma.html#pragma_data_version
    """

    def __init__(self, database: Path | None = None) -> None:
        """`database` is another than the application's."""
        path = str(database or settings.DATABASES["default"]["NAME"])
        self._connection = sqlite3.connect(path, check_same_thread=False)

    def number(self) -> int:
        """Another one after each change, or where nothing can be told; to be compared with earlier ones of this object
        alone.
        """
        try:
            return self._connection.execute("PRAGMA data_version").fetchone()[0]
        except sqlite3.Error:
            return time.monotonic_ns()

    def wait(self, since: int, at_most_s: float) -> None:
        """Wait until the number is another than `since`, or so long."""
        until = time.monotonic() + at_most_s
        while self.number() == since and (left_s := until - time.monotonic()) > 0:
            time.sleep(min(_LOOK_EVERY_S, left_s))
