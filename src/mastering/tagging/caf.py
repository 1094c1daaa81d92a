"""Tags of CAF: its chunk of keys and texts (Core Audio Format Specification 1.0, "Information Chunk"; from memory)."""

import struct
from pathlib import Path
from typing import BinaryIO

from mastering.said import Said
from mastering.tagging.inscription import Inscription

_KEYS = {
    "title": "title",
    "artist": "artist",
    "album": "album",
    "composer": "composer",
    "track": "track number",
    "year": "year",
    "genre": "genre",
    "comment": "comments",
    "copyright": "copyright",
    "encoder": "encoding application",
}
HELD = frozenset(_KEYS)
_FIRST_CHUNK = 8


def write(path: Path, given: Inscription) -> None:
    """Put the texts at the end, in place of those there were; the sound stays where it is."""
    texts = [(key, text) for name, key in _KEYS.items() if (text := given.tags.get(name))]
    body = struct.pack(">I", len(texts)) + b"".join(f"{key}\0{text}\0".encode() for key, text in texts)
    with path.open("rb+") as file:
        file.seek(_without_old(file, path.stat().st_size))
        file.truncate()
        if texts:
            file.write(struct.pack(">4sq", b"info", len(body)) + body)


def _without_old(file: BinaryIO, size_bytes: int) -> int:
    """Take old texts out of use: the last by cutting them off, others as free room. Returns where the file ends.

    Raises ValueError for sound that does not say how long it is: nothing can stand behind it.
    """
    at = _FIRST_CHUNK
    while at + 12 <= size_bytes:
        file.seek(at)
        name, size = struct.unpack(">4sq", file.read(12))
        if size < 0:
            raise ValueError(Said("sound-file-goes-end"))
        after = at + 12 + size
        if name == b"info":
            if after >= size_bytes:
                return at
            file.seek(at)
            file.write(b"free")
        at = after
    return size_bytes
