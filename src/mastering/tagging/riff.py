"""The INFO list of a WAV, written after its sound; the sound stays where it is."""

import struct
from pathlib import Path
from typing import BinaryIO

from mastering.audio.chunks import chunk, chunks
from mastering.tagging.inscription import Inscription

_CHUNKS = {
    "title": b"INAM",
    "artist": b"IART",
    "album": b"IPRD",
    "track": b"ITRK",
    "year": b"ICRD",
    "genre": b"IGNR",
    "comment": b"ICMT",
    "copyright": b"ICOP",
    "language": b"ILNG",
    "encoder": b"ISFT",
}
"""RIFF's INFO list as Microsoft and IBM describe it, 1991 (from memory); ITRK is common practice. UTF-8 likewise."""
HELD = frozenset(_CHUNKS)


def write(path: Path, given: Inscription) -> None:
    """Put an INFO list at the end, in place of those there were."""
    parts = b"".join(
        chunk(key, text.encode() + b"\0") for name, key in _CHUNKS.items() if (text := given.tags.get(name))
    )
    with path.open("rb+") as file:
        head = file.read(12)
        end = _blank_old(file, path.stat().st_size)
        file.seek(end)
        file.truncate()
        if parts:
            if end % 2:
                file.write(b"\0")
            file.write(chunk(b"LIST", b"INFO" + parts))
        set_size(file, head)


def set_size(file: BinaryIO, head: bytes) -> None:
    """State the size of the whole file anew. RF64 and BW64 keep it in the chunk "ds64" (EBU Tech 3306)."""
    file.seek(0, 2)
    size = file.tell() - 8
    if head[:4] == b"RIFF":
        file.seek(4)
        file.write(struct.pack("<I", size))
    else:
        file.seek(20)
        file.write(struct.pack("<Q", size))


def _blank_old(file: BinaryIO, size_bytes: int) -> int:
    """Take old INFO lists out of use: the last by cutting it off, others as padding. Returns where the file ends."""
    for found in chunks(file):
        file.seek(found.start)
        if found.name == b"LIST" and file.read(4) == b"INFO":
            if found.after >= size_bytes:
                return found.start - 8
            file.seek(found.start - 8)
            file.write(b"JUNK")
    return size_bytes
