"""What RIFF and AIFF headers promise, read directly, because libav quietly shortens a promise it cannot keep.

Layouts: RIFF/WAVE (Multimedia Programming Interface 1.0, 1991), RF64 (EBU Tech 3306), AIFF 1.3; from memory.
"""

import struct
from pathlib import Path

_NEARLY = 1 << 16
"""How far below the largest size of 31 or 32 bits one lies that stands for no size (common practice, no source)."""


def missing_audio_fraction(path: Path) -> float:
    """Return how much of the audio its own header promises is not in the file, from 0.0 to 1.0.

    Only WAV, RF64 and AIFF are looked at; any other file returns 0.0.
    """
    size_bytes = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        if len(head) < 12:
            return 0.0
        if head[:4] in (b"RIFF", b"RF64") and head[8:] == b"WAVE":
            return _missing(file, size_bytes, "<4sI", b"data")
        if head[:4] == b"FORM" and head[8:] in (b"AIFF", b"AIFC"):
            return _missing(file, size_bytes, ">4sI", b"SSND")
    return 0.0


def _missing(file, size_bytes: int, layout: str, wanted: bytes) -> float:
    long_size = 0
    while len(head := file.read(8)) == 8:
        name, promised = struct.unpack(layout, head)
        if name == b"ds64":
            long_size = struct.unpack("<8xQ", file.read(16))[0]
            file.seek(promised - 16, 1)
            continue
        if name == wanted:
            if long_size and promised == 0xFFFFFFFF:
                promised = long_size
            elif _stands_for_none(promised):
                return 0.0
            present = size_bytes - file.tell()
            return max(0.0, 1.0 - present / promised)
        file.seek(promised + promised % 2, 1)
    return 0.0


def _stands_for_none(size: int) -> bool:
    """Whether a size is what a program leaves behind that writes into a pipe and cannot go back to fill it in."""
    return size == 0 or any(limit - _NEARLY <= size <= limit for limit in (1 << 31, 1 << 32))
