"""What is heard on a page: a WAV that is made by the core while it is played, from any place."""

import struct
from collections.abc import Iterator

import numpy as np
from django.http import StreamingHttpResponse
from django.http.response import HttpResponseBase

from mastering.audio.convert import to_16_bit, to_channels
from mastering.rendering import Programme
from sermovox.ui.ranges import asked_range, beyond, part

MOST_S = 1200.0
"""One answer goes no further; the page asks for what follows."""
_MOST_BYTES = 4 << 20
"""So much is sent at once, about 45 s; the browser asks for more when it needs it, and no thread is held up."""
_FIRST_BYTES = 1 << 19
_TYPE = "audio/wav"


def send_programme(request, programme: Programme) -> HttpResponseBase:
    """Answer with a programme, or a part of it, as 16-bit WAV. Raises as the programme does when it is opened."""
    with programme.opened() as reader:
        channels = reader.channels if reader.channels <= 2 else 1
        frames = min(reader.length, round(MOST_S * reader.sample_rate_hz))
        frame_bytes = 2 * channels
        head = _head(frames, channels, reader.sample_rate_hz)
        size = len(head) + frames * frame_bytes
        asked = asked_range(request, size)
        if asked is None:
            response = StreamingHttpResponse(_whole(programme, head, frames, channels), content_type=_TYPE)
            response["Content-Length"] = size
            return response
        start = asked[0]
        if start >= size:
            return beyond(size)
        end = max(start, min(asked[1], start + (_MOST_BYTES if start else _FIRST_BYTES)))
        first, last = (max(0, edge - len(head)) for edge in (start, end))
        frame, skip = divmod(first, frame_bytes)
        sound = b"".join(_samples(reader.blocks(frame, -(-last // frame_bytes)), channels)) if last > first else b""
    answer = part(head[start:end] + sound[skip : skip + last - first], start, end, size, _TYPE)
    answer["Cache-Control"] = "no-store"
    return answer


def as_wav(samples: np.ndarray, rate_hz: int) -> bytes:
    """A whole WAV of int16 samples, shape (frames, channels)."""
    return _head(len(samples), samples.shape[1], rate_hz) + samples.astype("<i2").tobytes()


def _whole(programme: Programme, head: bytes, frames: int, channels: int) -> Iterator[bytes]:
    yield head
    with programme.opened() as reader:
        yield from _samples(reader.blocks(0, frames), channels)


def _samples(blocks: Iterator[np.ndarray], channels: int) -> Iterator[bytes]:
    blocks = (block if block.shape[1] <= 2 else block.mean(axis=1, keepdims=True) for block in blocks)
    for block in to_16_bit(to_channels(blocks, channels), dither=False):
        yield block.astype("<i2").tobytes()


def _head(frames: int, channels: int, rate_hz: int) -> bytes:
    size = frames * 2 * channels
    form = struct.pack("<4sIHHIIHH", b"fmt ", 16, 1, channels, rate_hz, rate_hz * 2 * channels, 2 * channels, 16)
    return struct.pack("<4sI4s", b"RIFF", size + 36, b"WAVE") + form + struct.pack("<4sI", b"data", size)
