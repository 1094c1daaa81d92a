"""Files take their names when they are whole, and take no other's place unasked."""

import os
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from mastering.errors import FileInTheWay
from mastering.said import Said


def flush(path: Path) -> None:
    """Wait until a file, or what a folder says of its files, is on the disk."""
    if path.is_dir() and os.name == "nt":
        return  # Windows has no folders to flush: what they say is written through.
    descriptor = os.open(path, os.O_RDONLY if path.is_dir() or os.name != "nt" else os.O_RDWR)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def flushed_folder(folder: Path) -> Path:
    """A folder that is there, as are those above it, also after a power cut."""
    if not folder.is_dir():
        above = flushed_folder(folder.parent)
        folder.mkdir(exist_ok=True)
        flush(above)
    return folder


def partial_of(target: Path) -> Path:
    """A name beside a file for what is to become it."""
    return target.with_name(f".{uuid.uuid4().hex}.making")


@contextmanager
def whole(target: Path, *, replace: bool = False) -> Iterator[Path]:
    """A file to write that takes the name of `target` once the block has ended well, as `put_in_place` does."""
    partial = partial_of(target)
    try:
        yield partial
        put_in_place(partial, target, replace=replace)
    finally:
        partial.unlink(missing_ok=True)


def put_in_place(partial: Path, target: Path, *, replace: bool = False) -> None:
    """Give a whole file its name; file and name are on the disk then. Raises FileInTheWay where the name is taken and
    may not be replaced.
    """
    flush(partial)
    if replace:
        os.replace(partial, target)
    else:
        _link(partial, target)
    flush(target.parent)


def _link(partial: Path, target: Path) -> None:
    try:
        # A hard link fails where the name was taken meanwhile; a rename would overwrite it without a word.
        os.link(partial, target)
    except FileExistsError as error:
        raise FileInTheWay(Said("exists-already-move-away-allow", name=target.name)) from error
    except OSError:
        # Without links the name is taken first, by an empty file that the whole one then replaces.
        try:
            target.open("xb").close()
        except FileExistsError as error:
            raise FileInTheWay(Said("exists-already-move-away-allow", name=target.name)) from error
        try:
            os.replace(partial, target)
        except OSError:
            target.unlink(missing_ok=True)
            raise
