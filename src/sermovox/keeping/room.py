"""Room on the disk: a reserve that is let go when nothing else is left, and what uploads may take.

The reserve is a file. While it is there, whatever fills the disk leaves its size untouched; when the last bytes go, it
is deleted, so that the database can be written and things deleted, until there is room for it again.
"""

import os
import shutil
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from django.conf import settings

from sermovox.keeping import storage

_MARGIN_BYTES = 8 << 20
_TOO_LITTLE_BYTES = 4 << 20
_LARGEST_SHARE = 0.05
_CHUNK_BYTES = 1 << 20
_announced: list[Callable[[], int]] = []


def announces(count: Callable[[], int]) -> Callable[[], int]:
    """Register what counts the bytes that somebody has announced and not brought yet."""
    _announced.append(count)
    return count


def reserve() -> Path:
    """The file that keeps room free."""
    return Path(settings.DATA_DIR) / "reserve"


def keep_reserve() -> None:
    """Put the reserve back where there is room for it again."""
    disk = shutil.disk_usage(settings.DATA_DIR)
    size_bytes = _size_bytes(disk)
    if reserve().exists() or disk.free < 2 * size_bytes + _MARGIN_BYTES:
        return
    try:
        with reserve().open("wb") as file:
            # Written rather than asked for, and not as zeros: some disks promise room that they have not.
            chunk = os.urandom(_CHUNK_BYTES)
            for _ in range(-(-size_bytes // _CHUNK_BYTES)):
                file.write(chunk)
    except OSError:
        reserve().unlink(missing_ok=True)


def let_go() -> None:
    """Let the reserve go when next to nothing else is left."""
    with suppress(OSError):
        if shutil.disk_usage(settings.DATA_DIR).free < _TOO_LITTLE_BYTES:
            reserve().unlink(missing_ok=True)


def left_bytes() -> int:
    """How much may still be written without touching the reserve."""
    disk = shutil.disk_usage(storage.incoming())
    free = disk.free - _MARGIN_BYTES
    return free if reserve().exists() else free - _size_bytes(disk)


def _size_bytes(disk) -> int:
    """How large the reserve is: less on a small disk."""
    return min(settings.RESERVE_BYTES, int(disk.total * _LARGEST_SHARE))


def has_room(size_bytes: int) -> bool:
    """Whether so much fits beside all that is announced."""
    return size_bytes <= left_bytes() - sum(count() for count in _announced)


class LetsGoOfReserve:
    """Middleware: no page fails because the last byte of the disk is taken, while there is a reserve."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        let_go()
        return self.get_response(request)
