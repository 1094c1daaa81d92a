"""MPEG-1 and -2 layer III out, with the header frame that tells its exact length."""

import struct
from pathlib import Path
from typing import Protocol

import lameenc
import numpy as np

from mastering.audio.encodings import Encoding, frame_bytes, header_at, header_kbps
from mastering.audio.formats import AVERAGE, CONSTANT, MP3_KBPS, QUALITY, VARIABLE
from mastering.certain import certain

LAME_QUALITY = 3
"""LAME's own choice for constant bitrates. Level 2 takes three times as long (measured by bin/bench)."""

_ABR, _VBR = 3, 4
_METHODS = {CONSTANT: 1, AVERAGE: 2, VARIABLE: 4, QUALITY: 4}
METHOD_MODES = {1: CONSTANT, 2: AVERAGE, 8: CONSTANT, 9: AVERAGE}
"""What the header frame's method of choosing bitrates means; all others are variable."""
ENCODER_DELAY = 576
"""Samples LAME puts before the first."""
_GOOD_QUALITY = 4
_MOST_PLACES = 4096


class Listener(Protocol):
    """Is given all of a file but its header frame as it is written, and told of how many samples it was made."""

    def put(self, data: bytes) -> None: ...

    def finish(self, samples: int) -> None: ...


class Mp3Writer:
    """Takes int16 blocks; joint stereo where there are two channels."""

    def __init__(self, path: Path, encoding: Encoding, *, listener: Listener | None = None):
        self._encoding, self._listener = encoding, listener
        self._encoder = bare_lame(encoding)
        self._file = path.open("xb")
        self._header = _HeaderFrame(encoding)
        self._file.write(bytes(self._header.size_bytes))
        self._samples = 0

    def write(self, block: np.ndarray) -> None:
        self._samples += len(block)
        self._put(self._encoder.encode(block.tobytes()))

    def close(self) -> None:
        try:
            self._put(self._encoder.flush())
            self._file.seek(0)
            self._file.write(self._header.as_bytes(self._samples))
        finally:
            try:
                self._file.close()
            finally:
                if self._listener:
                    self._listener.finish(self._samples)

    def _put(self, data: bytes) -> None:
        self._header.pass_by(data)
        self._file.write(data)
        if self._listener:
            self._listener.put(data)


def bare_lame(encoding: Encoding) -> lameenc.Encoder:
    """The LAME encoder as Sermovox sets it, which bin/bench also runs by itself."""
    encoder = lameenc.Encoder()
    encoder.silence()
    encoder.set_in_sample_rate(encoding.sample_rate_hz)
    encoder.set_out_sample_rate(encoding.sample_rate_hz)
    encoder.set_channels(encoding.channels)
    if encoding.mode == CONSTANT:
        encoder.set_bit_rate(encoding.bit_rate_kbps)
    elif encoding.mode == AVERAGE:
        encoder.set_vbr(_ABR)
        encoder.set_vbr_mean_bitrate_kbps(encoding.bit_rate_kbps)
    else:
        encoder.set_vbr(_VBR)
        encoder.set_vbr_quality(_GOOD_QUALITY if encoding.quality is None else encoding.quality)
        if encoding.mode == VARIABLE:
            encoder.set_vbr_min_bitrate_kbps(encoding.lowest_kbps)
            encoder.set_vbr_max_bitrate_kbps(encoding.highest_kbps)
            encoder.set_vbr_hard_min(1)
    encoder.set_quality(LAME_QUALITY)
    return encoder


class _HeaderFrame:
    """A frame without sound at the start. It tells decoders how long the file is, and what to drop at either end.

    Its layout is common practice: "Xing" or "Info" with the numbers of frames and bytes and a table of places, then
    the encoder's name, delay and padding (from memory of the LAME project's description).
    """

    def __init__(self, encoding: Encoding):
        self._encoding = encoding
        rate_hz = encoding.sample_rate_hz
        self._version = 1 if rate_hz >= 32000 else 2 if rate_hz >= 16000 else 2.5
        self._at = header_at(encoding)
        self._kbps = header_kbps(encoding)
        self.size_bytes = frame_bytes(self._kbps, rate_hz)
        self._frames, self._bytes, self._left = 0, self.size_bytes, b""
        self._places: list[int] = []
        self._stride = 1

    def pass_by(self, data: bytes) -> None:
        """Count the frames of what is written."""
        data, at = self._left + data, 0
        while at + 4 <= len(data):
            size = self._size_of(data, at)
            if at + size > len(data):
                break
            if self._frames % self._stride == 0:
                self._places.append(self._bytes)
                if len(self._places) > _MOST_PLACES:
                    self._places, self._stride = self._places[::2], self._stride * 2
            self._frames += 1
            self._bytes += size
            at += size
        self._left = data[at:]

    def _size_of(self, data: bytes, at: int) -> int:
        rate_hz = self._encoding.sample_rate_hz
        # MPEG-2.5 counts its bitrates as MPEG-2 does.
        kbps = MP3_KBPS[rate_hz if rate_hz >= 16000 else 16000][(data[at + 2] >> 4) - 1]
        return frame_bytes(kbps, rate_hz) + bool(data[at + 2] & 2)

    def as_bytes(self, samples: int) -> bytes:
        encoding, rate_hz = self._encoding, self._encoding.sample_rate_hz
        a_frame = 1152 if self._version == 1 else 576
        padding = max(0, self._frames * a_frame - ENCODER_DELAY - samples)
        constant = encoding.mode == CONSTANT
        nominal = encoding.lowest_kbps if encoding.mode == VARIABLE else encoding.bit_rate_kbps
        quality = _GOOD_QUALITY if encoding.quality is None else encoding.quality
        body = (b"Info" if constant else b"Xing") + struct.pack(">III", 15, self._frames, self._bytes)
        body += self._table() + struct.pack(">I", 100 - 10 * (0 if constant else quality) - LAME_QUALITY)
        body += b"LAME3.100" + bytes([_METHODS[certain(encoding.mode)], 0]) + bytes(8)
        body += bytes([0, min(nominal or 0, 255)])
        body += struct.pack(">I", ENCODER_DELAY << 12 | min(padding, 4095))[1:]
        body += bytes(4) + struct.pack(">IH", self._bytes, 0)
        frame = self._frame_header(rate_hz) + bytes(self._at - 4) + body
        frame += struct.pack(">H", _crc16(frame))
        return frame.ljust(self.size_bytes, b"\0")

    def _frame_header(self, rate_hz: int) -> bytes:
        version = {1: 0xFB, 2: 0xF3, 2.5: 0xE3}[self._version]
        rate_index = {44100: 0, 48000: 1, 32000: 2}[rate_hz * {1: 1, 2: 2, 2.5: 4}[self._version]]
        rate = MP3_KBPS[rate_hz].index(self._kbps) + 1
        mode = 0xC4 if self._encoding.channels == 1 else 0x44
        return bytes([0xFF, version, rate << 4 | rate_index << 2, mode])

    def _table(self) -> bytes:
        """Where each hundredth of the length begins, in 256ths of the bytes."""
        if not self._places:
            return bytes(100)
        at = [self._places[min(len(self._places) - 1, part * len(self._places) // 100)] for part in range(100)]
        return bytes(min(255, place * 256 // self._bytes) for place in at)


def _crc16(data: bytes) -> int:
    """CRC-16 with the polynomial 0x8005, reflected, from 0, as the header frame has it."""
    crc = 0
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = crc >> 1 ^ (0xA001 if crc & 1 else 0)
    return crc
