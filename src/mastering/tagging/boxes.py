"""The boxes an MP4 is made of (ISO/IEC 14496-12, 4.2), as far as its table of contents needs them."""

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import BinaryIO

_FAMILIES = (b"moov", b"trak", b"mdia", b"minf", b"stbl", b"tref")
"""Boxes that hold nothing but boxes."""


@dataclass
class Box:
    """A box: what it says, or the boxes it holds."""

    name: bytes
    body: bytes = b""
    inner: list["Box"] = field(default_factory=list)

    def all(self, name: bytes) -> list["Box"]:
        """The boxes of a name it holds."""
        return [box for box in self.inner if box.name == name]

    def at(self, *names: bytes) -> "Box | None":
        """The first box down a path of names."""
        box: Box | None = self
        for name in names:
            box = next(iter(box.all(name)), None) if box else None
        return box

    def as_bytes(self) -> bytes:
        body = b"".join(box.as_bytes() for box in self.inner) if self.name in _FAMILIES else self.body
        return struct.pack(">I4s", 8 + len(body), self.name) + body


def read_box(name: bytes, body: bytes) -> Box:
    """Read what a box says. Raises ValueError where one reaches beyond the one it is in."""
    if name not in _FAMILIES:
        return Box(name, body)
    inner, at = [], 0
    while at + 8 <= len(body):
        size, kind = struct.unpack_from(">I4s", body, at)
        if size < 8 or at + size > len(body):
            raise ValueError(f"a box {kind!r} of {size} bytes does not fit")
        inner.append(read_box(kind, body[at + 8 : at + size]))
        at += size
    return Box(name, b"", inner)


def top_boxes(file: BinaryIO, end: int) -> Iterator[tuple[bytes, int, int]]:
    """The outermost boxes of a file of `end` bytes: name, first byte, size. Raises ValueError as `read_box` does."""
    at = 0
    while at + 8 <= end:
        file.seek(at)
        size, name = struct.unpack(">I4s", file.read(8))
        if size == 1:
            (size,) = struct.unpack(">Q", file.read(8))
        elif size == 0:
            size = end - at
        if size < 8 or at + size > end:
            raise ValueError(f"a box {name!r} of {size} bytes does not fit")
        yield name, at, size
        at += size
