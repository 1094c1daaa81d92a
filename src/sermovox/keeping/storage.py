"""Where things lie on disk, all below the data folder and none below a static or media address.

Bytes and rows change in one order, so that a kill between the two loses nothing: new bytes are on the disk before a row
names them, and bytes go only after no row names them. What lies there without a row is cleared away later
(`sermovox.work.recovery`).
"""

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
from datetime import datetime, timedelta
from pathlib import Path

from django.conf import settings
from django.core.files import locks
from django.db import DatabaseError
from django.utils import timezone

from mastering import VERSION
from mastering.audio.placing import flush, flushed_folder, whole
from mastering.said import Said
from sermovox.keeping import caches

DISK_FULL = Said("servers-disk-full-free-some")
_BEING_WRITTEN = re.compile(r"\.[0-9a-f]{32}(\.sum)?$")
_FORGOTTEN_S = 24 * 3600


def is_full(error: BaseException) -> bool:
    """Whether it was the disk that had no room, for a file or for the database."""
    if isinstance(error, OSError):
        return error.errno in (errno.ENOSPC, errno.EDQUOT)
    return isinstance(error, DatabaseError) and "full" in str(error)


def said_of(error: OSError) -> str:
    """What to tell a person whose file could not be read or kept."""
    if is_full(error):
        return DISK_FULL
    return Said("file-could-not-read-kept", strerror=error.strerror)


def not_written(error: OSError) -> str:
    """What to tell a person whose finished file could not be written."""
    if is_full(error):
        return Said("servers-disk-full-free-some-space")
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return Said("sermovox-may-no-longer-write")
    return Said("file-could-not-written-run", strerror=error.strerror)


def binned_before() -> datetime:
    """What lies in the bin since before this goes for good."""
    return timezone.now() - timedelta(days=settings.KEEP_BINNED_DAYS)


@contextmanager
def held(sha256: str) -> Iterator[None]:
    """Nobody else keeps or deletes bytes of this hash meanwhile, in any process. Never asked for inside a transaction:
    whoever has it may be waiting for the database.
    """
    with (_made(Path(settings.DATA_DIR) / "locks") / sha256[:2]).open("a") as file:
        locks.lock(file, locks.LOCK_EX)
        yield


def forget_folder(folder: Path) -> None:
    """Delete the folder of a finished file, or of a delivery, that no row names any more; where all is being copied
    just now it is left for later.
    """
    if not is_being_copied():
        shutil.rmtree(folder, ignore_errors=True)


def forget_file(path: Path) -> None:
    """Delete a file that no row names any more; where all is being copied just now it is left for later."""
    if not is_being_copied():
        path.unlink(missing_ok=True)


@contextmanager
def copying() -> Iterator[None]:
    """All is being copied: meanwhile no bytes are deleted."""
    with (_made(Path(settings.DATA_DIR)) / "copying.lock").open("a") as file:
        locks.lock(file, locks.LOCK_EX)
        yield


def is_being_copied() -> bool:
    """Whether a copy of everything is being made in some process."""
    with (_made(Path(settings.DATA_DIR)) / "copying.lock").open("a") as file:
        return not locks.lock(file, locks.LOCK_SH | locks.LOCK_NB)


def incoming() -> Path:
    """Where uploads lie while they arrive."""
    return _made(Path(settings.DATA_DIR) / "incoming")


def checking(key: int) -> Path:
    """Where a file lies while it is held against an outlet."""
    return _made(Path(settings.DATA_DIR) / "checking") / str(key)


def stored(sha256: str) -> Path:
    """Where a recording lies, by the hash of its bytes."""
    return flushed_folder(Path(settings.DATA_DIR) / "recordings" / sha256[:2]) / sha256


def state_of(sha256: str) -> str:
    """Read a stored recording against its hash: "whole", "damaged" or "missing"."""
    return state_of_file(stored(sha256), sha256)


def state_of_file(path: Path, sha256: str) -> str:
    """Read a file against a hash: "whole", "damaged" or "missing"."""
    try:
        with path.open("rb") as file:
            return "whole" if hashlib.file_digest(file, "sha256").hexdigest() == sha256 else "damaged"
    except FileNotFoundError:
        return "missing"


def proven_state(sha256: str, *, since: float) -> str:
    """As `state_of`, but a recording found whole after `since` (seconds since 1970) is not read once more while its
    file stays untouched.
    """
    note = cached(sha256, "whole")
    with suppress(OSError, ValueError):
        at, *touched = caches.read(note).decode().split()
        if touched == _touched(sha256) and float(at) >= since:
            return "whole"
    began = time.time()
    state = state_of(sha256)
    if state == "whole":
        caches.keep(note, " ".join([str(began), *_touched(sha256)]).encode())
    return state


def _touched(sha256: str) -> list[str]:
    found = stored(sha256).stat()
    return [str(found.st_size), str(found.st_mtime_ns), str(found.st_ctime_ns)]


def keep(arrived: Path, sha256: str) -> None:
    """Put a file that has arrived in its place under its hash, read-only; it is on the disk then. A whole one there
    already stays. The caller holds the hash, until a row names it.
    """
    if state_of(sha256) == "whole":
        return
    arrived.chmod(0o400)
    flush(arrived)
    # A second name rather than another: should no row come to name it, the upload is still there.
    second = stored(sha256).with_name(f"{sha256}.{uuid.uuid4().hex}")
    try:
        try:
            os.link(arrived, second)
        except OSError:
            shutil.copyfile(arrived, second)
            flush(second)
        os.replace(second, stored(sha256))
    finally:
        second.unlink(missing_ok=True)
    flush(stored(sha256).parent)


def forget(sha256: str) -> None:
    """Delete a recording's bytes and what was worked out from them. The caller holds the hash."""
    with suppress(FileNotFoundError):
        # Windows deletes nothing that may only be read.
        stored(sha256).chmod(0o600)
    stored(sha256).unlink(missing_ok=True)
    for leftover in cached(sha256, "waveform").parent.glob(f"{sha256}.*"):
        leftover.unlink(missing_ok=True)


def cached(sha256: str, kind: str) -> Path:
    """Where something worked out from a recording lies; may be deleted at any time."""
    return _made(Path(settings.DATA_DIR) / "cache" / sha256[:2]) / f"{sha256}.{VERSION}.{kind}"


def heard(sha256: str) -> Path:
    """What of a recording is played: the copy made for it, where there is one, else the recording."""
    preview = cached(sha256, "preview.flac")
    return preview if caches.is_kept(preview) else stored(sha256)


def finished(delivery_id: int, file_id: int) -> Path:
    """The folder of one finished file."""
    return Path(settings.DATA_DIR) / "deliveries" / str(delivery_id) / str(file_id)


@dataclass(frozen=True, kw_only=True)
class Use:
    """How many bytes lie where."""

    recordings_bytes: int
    finished_bytes: int
    artwork_bytes: int
    incoming_bytes: int
    cache_bytes: int
    database_bytes: int
    others_bytes: int
    free_bytes: int

    @property
    def whole_bytes(self) -> int:
        """All that lies in the data folder."""
        listed = self.recordings_bytes + self.finished_bytes + self.artwork_bytes
        return listed + self.incoming_bytes + self.cache_bytes + self.database_bytes


def in_use() -> Use:
    """Add up what lies in the data folder."""
    data = Path(settings.DATA_DIR)
    disk = shutil.disk_usage(data)
    sizes = {
        "recordings_bytes": _size_of(data / "recordings"),
        "finished_bytes": _size_of(data / "deliveries"),
        "artwork_bytes": _size_of(data / "artwork"),
        "incoming_bytes": _size_of(data / "incoming") + _size_of(data / "checking"),
        "cache_bytes": _size_of(data / "cache"),
        "database_bytes": sum(path.stat().st_size for path in data.glob("*.sqlite3*")),
    }
    others = max(0, disk.used - sum(sizes.values()))
    return Use(**sizes, others_bytes=others, free_bytes=disk.free)


def is_half_written(path: Path) -> bool:
    """Whether something that is worked out from recordings has not got its name yet."""
    return bool(_BEING_WRITTEN.search(path.name))


def free_cache() -> int:
    """Delete what can be worked out again: waveforms, measurements, copies to listen to. Returns how many bytes.

    What a worker is writing just now stays; what a killed one left goes after a day.
    """
    folder = Path(settings.DATA_DIR) / "cache"
    freed = 0
    for path in folder.rglob("*"):
        try:
            found = path.stat()
            if path.is_dir() or is_half_written(path) and time.time() - found.st_mtime < _FORGOTTEN_S:
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
    return flushed_folder(Path(settings.DATA_DIR) / "artwork") / sha256


def keep_picture(data: bytes) -> str:
    """Keep a picture. Returns the hash of its bytes."""
    sha256 = hashlib.sha256(data).hexdigest()
    if picture(sha256) != data:
        with whole(artwork(sha256), replace=True) as partial:
            partial.write_bytes(data)
    return sha256


def picture(sha256: str) -> bytes:
    """A picture that was kept; empty where there is none, or not as it was."""
    try:
        data = artwork(sha256).read_bytes() if sha256 else b""
    except OSError:
        return b""
    return data if hashlib.sha256(data).hexdigest() == sha256 else b""
