"""Where things lie on disk, all below the data folder and none below a static or media address."""

import errno
import hashlib
import os
import re
import shutil
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings

from mastering import VERSION

DISK_FULL = "The server's disk is full. Free some space there, then send the file again."
_BEING_WRITTEN = re.compile(r"\.[0-9a-f]{32}$")
_FORGOTTEN_S = 24 * 3600


def said_of(error: OSError) -> str:
    """What to tell a person whose file could not be read or kept."""
    if error.errno == errno.ENOSPC:
        return DISK_FULL
    return f"The file could not be read or kept ({error.strerror}). Bring it in again."


def not_written(error: OSError) -> str:
    """What to tell a person whose finished file could not be written."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return "The server's disk is full. Free some space there, then run it again."
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return "Sermovox may no longer write to its data folder. Put its permissions right, then run it again."
    return f"The file could not be written ({error.strerror}). Run it again; if that fails too, look at the disk."


def incoming() -> Path:
    """Where uploads lie while they arrive."""
    return _made(Path(settings.DATA_DIR) / "incoming")


def checking(key: int) -> Path:
    """Where a file lies while it is held against an outlet."""
    return _made(Path(settings.DATA_DIR) / "checking") / str(key)


def stored(sha256: str) -> Path:
    """Where a recording lies, by the hash of its bytes."""
    return _made(Path(settings.DATA_DIR) / "recordings" / sha256[:2]) / sha256


def state_of(sha256: str) -> str:
    """Read a stored recording against its hash: "whole", "damaged" or "missing"."""
    try:
        with stored(sha256).open("rb") as file:
            return "whole" if hashlib.file_digest(file, "sha256").hexdigest() == sha256 else "damaged"
    except FileNotFoundError:
        return "missing"


def proven_state(sha256: str, *, since: float) -> str:
    """As `state_of`, but a recording found whole after `since` (seconds since 1970) is not read once more while its
    file stays untouched.
    """
    note = cached(sha256, "whole")
    with suppress(OSError, ValueError):
        at, *touched = note.read_text().split()
        if touched == _touched(sha256) and float(at) >= since:
            return "whole"
    began = time.time()
    state = state_of(sha256)
    if state == "whole":
        with whole(note) as path:
            path.write_text(" ".join([str(began), *_touched(sha256)]))
    return state


def _touched(sha256: str) -> list[str]:
    found = stored(sha256).stat()
    return [str(found.st_size), str(found.st_mtime_ns), str(found.st_ctime_ns)]


def keep(arrived: Path, sha256: str) -> None:
    """Move a file that has arrived to its place under its hash, read-only. A whole one there already stays."""
    if state_of(sha256) == "whole":
        arrived.unlink()
        return
    arrived.chmod(0o444)
    os.replace(arrived, stored(sha256))


def cached(sha256: str, kind: str) -> Path:
    """Where something worked out from a recording lies; may be deleted at any time."""
    return _made(Path(settings.DATA_DIR) / "cache" / sha256[:2]) / f"{sha256}.{VERSION}.{kind}"


def heard(sha256: str) -> Path:
    """What of a recording is played: the copy made for it, where there is one, else the recording."""
    preview = cached(sha256, "preview.flac")
    return preview if preview.exists() else stored(sha256)


def finished(delivery_id: int, file_id: int) -> Path:
    """The folder of one finished file."""
    return Path(settings.DATA_DIR) / "deliveries" / str(delivery_id) / str(file_id)


def binned(file_id: int) -> Path:
    """Where a finished file lies that another has replaced, for as long as the bin keeps it."""
    return Path(settings.DATA_DIR) / "bin" / "files" / str(file_id)


def move_folder(folder: Path, target: Path) -> None:
    """Move a folder to a place of its own, if it is there."""
    if folder.exists():
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.rmtree(target, ignore_errors=True)
        os.replace(folder, target)


@contextmanager
def whole(target: Path) -> Iterator[Path]:
    """A file to write that takes its name only when the block it is written in has ended well."""
    partial = target.with_name(f"{target.name}.{uuid.uuid4().hex}")
    try:
        yield partial
        os.replace(partial, target)
    finally:
        partial.unlink(missing_ok=True)


@dataclass(frozen=True, kw_only=True)
class Use:
    """How many bytes lie where."""

    recordings_bytes: int
    finished_bytes: int
    binned_bytes: int
    incoming_bytes: int
    cache_bytes: int
    free_bytes: int


def in_use() -> Use:
    """Add up what lies in the data folder."""
    data = Path(settings.DATA_DIR)
    return Use(
        recordings_bytes=_size_of(data / "recordings"),
        finished_bytes=_size_of(data / "deliveries"),
        binned_bytes=_size_of(data / "bin"),
        incoming_bytes=_size_of(data / "incoming"),
        cache_bytes=_size_of(data / "cache"),
        free_bytes=shutil.disk_usage(data).free,
    )


def free_cache() -> int:
    """Delete what can be worked out again: waveforms, measurements, copies to listen to. Returns how many bytes.

    What a worker is writing just now stays; what a killed one left goes after a day.
    """
    folder = Path(settings.DATA_DIR) / "cache"
    freed = 0
    for path in folder.rglob("*"):
        try:
            found = path.stat()
            if path.is_dir() or _BEING_WRITTEN.search(path.name) and time.time() - found.st_mtime < _FORGOTTEN_S:
                continue
            path.unlink()
        except FileNotFoundError:
            continue
        freed += found.st_size
    return freed


def _size_of(folder: Path) -> int:
    size = 0
    for path in folder.rglob("*"):
        try:
            size += path.stat().st_size if path.is_file() else 0
        except FileNotFoundError:
            continue
    return size


def _made(folder: Path) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def artwork(sha256: str) -> Path:
    """Where a picture lies, by the hash of its bytes."""
    return _made(Path(settings.DATA_DIR) / "artwork") / sha256


def keep_picture(data: bytes) -> str:
    """Keep a picture. Returns the hash of its bytes."""
    sha256 = hashlib.sha256(data).hexdigest()
    with whole(artwork(sha256)) as path:
        path.write_bytes(data)
    return sha256


def picture(sha256: str) -> bytes:
    """A picture that was kept; empty where there is none."""
    try:
        return artwork(sha256).read_bytes() if sha256 else b""
    except OSError:
        return b""
