"""Copying into a folder of this machine, or of a device that is mounted on it."""

import errno
import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, Self

from django.conf import settings

from mastering.audio.placing import flush
from mastering.outlets.receiving import Receiving
from mastering.said import Said
from sermovox.dispatch.ways.carrier import (
    CHUNK_BYTES,
    Access,
    Chunks,
    LineBroke,
    NameTaken,
    NotSent,
    Readable,
    Told,
    folders_down_to,
)
from sermovox.dispatch.ways.comparing import same_so_far
from sermovox.keeping import rights
from sermovox.work.run import is_demonstration

_GONE = (errno.EIO, errno.ENODEV, errno.ENXIO, errno.ESTALE, errno.ENOTCONN)


class FolderCarrier:
    """Copies into a folder, reads back what it copied."""

    appears_whole = False

    def __init__(self, receiving: Receiving, access: Access):
        self._top = Path(receiving.address).expanduser()
        self._room_bytes = receiving.number("room") * 1_000_000

    def __enter__(self) -> Self:
        if not self._top.is_absolute():
            raise NotSent(Said("folder-wants-all-above"))
        with _in_words(self._top):
            # As it really is: a link may lead anywhere.
            self._top = self._top.resolve()
            if not _may_be_written(self._top):
                allowed = ", ".join(str(folder) for folder in settings.SEND_TO_FOLDERS)
                raise NotSent(Said("may-not-write-to", top=self._top, allowed=allowed or Said("nowhere-allowed")))
            if not self._top.is_dir():
                raise NotSent(Said("there-no-folder-make-mount", top=self._top))
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        pass

    def make_folder(self, name: str) -> list[str]:
        made = []
        for folder in folders_down_to(name):
            with _in_words(self._path(folder)), suppress(FileExistsError):
                self._path(folder).mkdir()
                rights.for_others(self._path(folder))
                made.append(folder)
        return made

    def remove_folder(self, name: str) -> None:
        with _in_words(self._path(name)):
            self._path(name).rmdir()

    def size_of(self, name: str) -> int | None:
        with _in_words(self._path(name)):
            try:
                return self._path(name).stat().st_size
            except FileNotFoundError:
                return None

    def is_same(self, name: str, sha256: str, opened: Callable[[], BinaryIO]) -> bool | None:
        return None

    def fetched(self, name: str, start: int, count: int) -> Chunks:
        with _in_words(self._path(name)), self._path(name).open("rb") as file:
            if hasattr(os, "posix_fadvise"):
                # From the device, not from what is still in memory of it.
                os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
            file.seek(start)
            while count > 0 and (chunk := file.read(min(CHUNK_BYTES, count))):
                count -= len(chunk)
                yield chunk

    def begun_bytes(self, name: str, file: BinaryIO, size_bytes: int, told: Told) -> int:
        return same_so_far(self, name, file, size_bytes, told)

    def put(self, name: str, source: Readable, start: int, size_bytes: int, told: Told, *, replacing: bool) -> str:
        path = self._path(name)
        with _in_words(path), path.open("r+b" if start else "wb") as file:
            file.truncate(start)
            file.seek(start)
            while chunk := source.read(CHUNK_BYTES):
                file.write(chunk)
                start += len(chunk)
                told(start)
            file.flush()
            rights.for_others(path)
            flush(path)
        return "copied"

    def rename(self, name: str, new: str) -> None:
        with _in_words(self._path(new)):
            try:
                os.link(self._path(name), self._path(new))
            except FileExistsError:
                raise NameTaken(Said("there-file-called-already", new=new)) from None
            except OSError as error:
                # Some devices know no links; a name that was taken meanwhile is seen as well as can be.
                if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK):
                    raise
                if self._path(new).exists():
                    raise NameTaken(Said("there-file-called-already", new=new)) from None
                self._path(name).rename(self._path(new))
            else:
                self._path(name).unlink()

    def delete(self, name: str) -> None:
        with _in_words(self._path(name)):
            self._path(name).unlink(missing_ok=True)

    def forget_begun(self, name: str) -> None:
        self.delete(name)

    def left_bytes(self, folder: str) -> int | None:
        with _in_words(self._top):
            free = shutil.disk_usage(self._path(folder)).free
            if not self._room_bytes:
                return free
            used = sum(path.stat().st_size for path in self._top.rglob("*") if path.is_file())
            return min(free, max(0, self._room_bytes - used))

    def _path(self, name: str) -> Path:
        path = self._top / name
        if not path.resolve().is_relative_to(self._top):
            raise NotSent(Said("would-lie-outside", name=name, top=self._top))
        return path


def _may_be_written(folder: Path) -> bool:
    """Whether it lies where sending is allowed: no hidden folder, and none of Sermovox's own."""
    hidden = any(part.startswith(".") for part in folder.parts)
    if is_demonstration() and folder == settings.DATA_DIR / "stand-ins" / "player" / "received":
        # The stand-in of a device.
        return True
    allowed = any(folder.is_relative_to(each) for each in settings.SEND_TO_FOLDERS)
    return allowed and not hidden and not folder.is_relative_to(settings.DATA_DIR)


@contextmanager
def _in_words(path: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        if error.errno in (errno.ENOSPC, errno.EDQUOT):
            raise NotSent(Said("there-no-room-left-make", parent=path.parent)) from error
        if error.errno == errno.EFBIG:
            raise NotSent(Said("larger-than-file-may-split", name=path.name, parent=path.parent)) from error
        if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
            raise NotSent(Said("sermovox-may-not-write-allow", path=path)) from error
        if error.errno in (errno.ENAMETOOLONG, errno.EINVAL):
            raise NotSent(Said("cannot-held-change-pattern-names", name=path.name, parent=path.parent)) from error
        if error.errno in _GONE:
            raise LineBroke(Said("gone-mount-device-again", parent=path.parent, strerror=error.strerror)) from error
        raise NotSent(f"{path}: {error.strerror}.") from error
