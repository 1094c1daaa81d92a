"""The chunks that RIFF, RF64, BW64 and AIFF files are made of.

Layouts: RIFF/WAVE (Multimedia Programming Interface 1.0, 1991), RF64 (EBU Tech 3306), AIFF 1.3; from memory.
"""

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

UNSIZED = 0xFFFFFFFF
"""The size of a chunk that states it with 64 bits elsewhere, or not at all."""
WAVES = (b"RIFF", b"RF64", b"BW64")


@dataclass(frozen=True)
class Chunk:
    """A chunk of a file: its name, the first byte of its content, and how many bytes that states to have."""

    name: bytes
    start: int
    size: int

    @property
    def after(self) -> int:
        """Where the next begins: an even number of bytes further."""
        return self.start + self.size + self.size % 2


def is_wave(head: bytes) -> bool:
    """Whether a file with these first 12 bytes is a WAV of whatever length."""
    return head[:4] in WAVES and head[8:12] == b"WAVE"


def is_aiff(head: bytes) -> bool:
    """Whether a file with these first 12 bytes is an AIFF, or one that may be compressed."""
    return head[:4] == b"FORM" and head[8:12] in (b"AIFF", b"AIFC")


def chunks(file: BinaryIO) -> Iterator[Chunk]:
    """The chunks of an open WAV or AIFF, one after the other; the file may be read and written in between.

    A WAV of over 4 GiB keeps the size of its sound in the chunk "ds64"; that is the one given here.
    """
    file.seek(0)
    layout = ">4sI" if file.read(4) == b"FORM" else "<4sI"
    at, long_size = 12, 0
    while True:
        file.seek(at)
        head = file.read(8)
        if len(head) < 8:
            return
        name, size = struct.unpack(layout, head)
        if name == b"ds64" and len(sizes := file.read(16)) == 16:
            long_size = struct.unpack("<8xQ", sizes)[0]
        if name == b"data" and size == UNSIZED and long_size:
            size = long_size
        found = Chunk(name, at + 8, size)
        yield found
        at = found.after


def inner_chunks(body: bytes) -> Iterator[tuple[bytes, bytes]]:
    """The chunks inside a list of a WAV: name and content."""
    at = 0
    while at + 8 <= len(body):
        name, size = body[at : at + 4], struct.unpack_from("<I", body, at + 4)[0]
        yield name, body[at + 8 : at + 8 + size]
        at += 8 + size + size % 2


def chunk(name: bytes, body: bytes) -> bytes:
    """A chunk of a WAV as it is written: name, size, body, filled up to an even length."""
    return name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)
