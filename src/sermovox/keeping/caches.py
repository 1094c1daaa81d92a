"""What was worked out from recordings: kept with its length and checksum, and believed only while both hold."""

import hashlib
import os
import uuid
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from mastering.said import Said

_SUM = ".sum"
_MOST_JUDGED = 20_000
_judged: dict[Path, tuple] = {}
"""How each file looked when it was found as it was written, so that it is read for that only once."""


def sum_of(path: Path) -> Path:
    """Where length and checksum of a kept file lie."""
    return path.with_name(path.name + _SUM)


@contextmanager
def making(path: Path) -> Iterator[Path]:
    """A file to write that is kept under its name, with its checksum, once the block has ended well."""
    partial = path.with_name(f"{path.name}.{uuid.uuid4().hex}")
    noted = sum_of(partial)
    try:
        yield partial
        noted.write_text(_summed(partial))
        # Whoever reads between the two finds that they do not fit, and works it out once more.
        os.replace(noted, sum_of(path))
        os.replace(partial, path)
    finally:
        partial.unlink(missing_ok=True)
        noted.unlink(missing_ok=True)


def keep(path: Path, data: bytes) -> None:
    """Keep something small, if the disk takes it: it can be worked out again."""
    with suppress(OSError), making(path) as partial:
        partial.write_bytes(data)


def forget(path: Path) -> None:
    """Keep something no longer."""
    path.unlink(missing_ok=True)
    sum_of(path).unlink(missing_ok=True)


def seal(path: Path) -> None:
    """Note length and checksum of a file that lies in its place already."""
    sum_of(path).write_text(_summed(path))


def judged(path: Path) -> Path:
    """The same path, if what lies there is as it was written. Raises FileNotFoundError where it is not there, or not as
    it was.
    """
    found = path.stat()
    looks = (found.st_size, found.st_mtime_ns, found.st_ctime_ns, found.st_ino)
    if _judged.get(path) != looks:
        try:
            as_written = sum_of(path).read_text("ascii") == _summed(path)
        except ValueError:
            as_written = False
        if not as_written:
            raise FileNotFoundError(Said("not-written", name=path.name))
        if len(_judged) >= _MOST_JUDGED:
            _judged.clear()
        _judged[path] = looks
    return path


def is_kept(path: Path) -> bool:
    """Whether it lies there as it was written."""
    with suppress(OSError):
        return bool(judged(path))
    return False


def read(path: Path) -> bytes:
    """What was kept. Raises FileNotFoundError where it is not there, or not as it was written."""
    return judged(path).read_bytes()


def _summed(path: Path) -> str:
    with path.open("rb") as file:
        return f"{os.fstat(file.fileno()).st_size} {hashlib.file_digest(file, 'sha256').hexdigest()}"
