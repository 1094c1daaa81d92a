"""WAV out: plain, RF64 above 4 GiB, with the description of a broadcast wave where it is asked."""

import struct
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from anyascii import anyascii

from mastering.audio.chunks import UNSIZED, chunk
from mastering.audio.encodings import LARGEST_RIFF_BYTES, Encoding
from mastering.audio.formats import FLOAT_32, INT_16, INT_24
from mastering.certain import certain

_BITS = {INT_16: 16, INT_24: 24}
_BEXT = struct.Struct("<256s32s32s10s8sQH64s190s")
"""The broadcast extension, version 1 (EBU Tech 3285, 2.3, from memory), before its coding history."""


@dataclass(frozen=True, kw_only=True)
class Broadcast:
    """What the description of a BWF says. `date` is yyyy-mm-dd, `time` hh:mm:ss."""

    description: str = ""
    originator: str = ""
    reference: str = ""
    date: str = ""
    time: str = ""
    history: str = ""


class WavWriter:
    """Takes the blocks its sample format holds."""

    def __init__(self, path: Path, encoding: Encoding, *, frames: int, broadcast: Broadcast | None = None):
        self._encoding = encoding
        self._float = encoding.sample_format == FLOAT_32
        self._bits = _BITS.get(certain(encoding.sample_format), 32)
        self._frame_bytes = encoding.channels * self._bits // 8
        self._long = frames * self._frame_bytes > LARGEST_RIFF_BYTES
        self._broadcast = (broadcast or Broadcast()) if encoding.broadcast else None
        self._data_bytes = 0
        self._file = path.open("xb")
        self._head = self._header(0)
        self._file.write(self._head)

    def write(self, block: np.ndarray) -> None:
        raw = _packed_24(block) if self._bits == 24 else block.astype(block.dtype.newbyteorder("<"), copy=False)
        data = raw.tobytes()
        self._data_bytes += len(data)
        self._file.write(data)

    def close(self) -> None:
        try:
            if self._data_bytes % 2:
                self._file.write(b"\0")
            if not self._long and len(self._head) + self._data_bytes > UNSIZED:
                raise ValueError("more samples came than were promised")
            self._file.seek(0)
            self._file.write(self._header(self._data_bytes))
        finally:
            self._file.close()

    def _header(self, data_bytes: int) -> bytes:
        rate_hz, channels = self._encoding.sample_rate_hz, self._encoding.channels
        kind = 3 if self._float else 1
        form = struct.pack(
            "<HHIIHH", kind, channels, rate_hz, rate_hz * self._frame_bytes, self._frame_bytes, self._bits
        )
        frames = data_bytes // self._frame_bytes
        chunks = b""
        if self._broadcast:
            chunks += chunk(b"bext", _bext(self._broadcast))
        chunks += chunk(b"fmt ", form + (b"\0\0" if self._float else b""))
        if self._float:
            # Every format but integer PCM states its number of samples.
            chunks += chunk(b"fact", struct.pack("<I", min(frames, UNSIZED)))
        riff_bytes = 4 + len(chunks) + 8 + data_bytes + data_bytes % 2
        if not self._long:
            head = b"RIFF" + struct.pack("<I", riff_bytes) + b"WAVE"
            return head + chunks + b"data" + struct.pack("<I", data_bytes)
        # EBU Tech 3306, 3: the sizes stand in a chunk of their own, with 64 bits.
        sizes = chunk(b"ds64", struct.pack("<QQQI", riff_bytes + 36, data_bytes, frames, 0))
        return b"RF64" + struct.pack("<I", UNSIZED) + b"WAVE" + sizes + chunks + b"data" + struct.pack("<I", UNSIZED)


def _bext(said: Broadcast) -> bytes:
    fields = (said.description, said.originator, said.reference, said.date, said.time)
    sizes = (256, 32, 32, 10, 8)
    texts = [_ascii(text, size) for text, size in zip(fields, sizes, strict=True)]
    return _BEXT.pack(*texts, 0, 1, b"", b"") + _ascii(said.history, 4096)


def _ascii(text: str, size: int) -> bytes:
    """The field's own letters: it is ASCII by its standard, so other letters are spelt in those."""
    return anyascii(text).encode("ascii", "replace")[:size]


def _packed_24(block: np.ndarray) -> np.ndarray:
    """The upper three bytes of each int32."""
    return np.ascontiguousarray(block, "<i4").view(np.uint8).reshape(-1, 4)[:, 1:]
