"""The drawn shape of a recording: a pyramid of the lowest and highest sample of each stretch.

The ground level has a pair for each 256 frames; each level above joins 16 pairs of the one below, up to one that is
short. So a stretch of any length is drawn from a few thousand pairs, read from one place in the file.

File: 8 bytes "SVPEAKS1", the number of frames as a little-endian uint64, then the levels from the ground up, each
as int8 pairs (lowest, highest; 127 is full scale) of the mean of all channels.
"""

import struct
from pathlib import Path
from typing import BinaryIO

import numpy as np

FRAMES_PER_PAIR = 256
_JOINED = 16
_SHORT = 1024
"""A level with no more pairs than this is the top."""
_HEAD = struct.Struct("<8sQ")
_MAGIC = b"SVPEAKS1"
_READ_PAIRS = 1 << 18


class WaveformWriter:
    """Draw a stream of blocks into a file. Add blocks of any length; only the last few samples stay in memory."""

    def __init__(self, path: Path):
        self._file = path.open("wb+")
        self._file.write(_HEAD.pack(_MAGIC, 0))
        self._rest = np.empty(0, np.float32)
        self._frames = 0

    def add(self, block: np.ndarray) -> None:
        """Take a float32 block of shape (frames, channels)."""
        self._frames += len(block)
        mixed = np.concatenate([self._rest, block.mean(axis=1) if block.shape[1] > 1 else block[:, 0]])
        whole = len(mixed) - len(mixed) % FRAMES_PER_PAIR
        self._write(mixed[:whole].reshape(-1, FRAMES_PER_PAIR))
        self._rest = mixed[whole:]

    def close(self) -> None:
        """Write what is left and the levels above the ground, and complete the file."""
        if len(self._rest):
            self._write(self._rest.reshape(1, -1))
        lengths = _lengths(self._frames)
        start = _HEAD.size
        for below in lengths[:-1]:
            self._join(start, below)
            start += 2 * below
        self._file.seek(0)
        self._file.write(_HEAD.pack(_MAGIC, self._frames))
        self._file.close()

    def _join(self, start: int, count: int) -> None:
        for first in range(0, count, _READ_PAIRS):
            self._file.seek(start + 2 * first)
            pairs = np.frombuffer(self._file.read(2 * min(_READ_PAIRS, count - first)), np.int8).reshape(-1, 2)
            self._file.seek(0, 2)
            self._file.write(_reduced(pairs, np.arange(0, len(pairs), _JOINED)).tobytes())

    def _write(self, rows: np.ndarray) -> None:
        pairs = np.stack([rows.min(axis=1), rows.max(axis=1)], axis=1)
        self._file.write(np.rint(np.clip(pairs, -1, 1) * 127).astype(np.int8).tobytes())


def waveform_frames(path: Path) -> int:
    """How many frames were drawn. Raises ValueError when the file is no waveform, or not whole."""
    with path.open("rb") as file:
        return _frames(file)


def columns(path: Path, count: int, *, start_frame: int = 0, end_frame: int | None = None) -> np.ndarray:
    """Draw a stretch of a recording in at most `count` columns.

    Returns int8, shape (n, 2), n ≤ count: lowest and highest of each column. A stretch beyond the end is empty; it
    is no finer than FRAMES_PER_PAIR. Reads a few thousand pairs at most, however long the recording is. Raises
    ValueError when the file is no waveform, or not whole.
    """
    with path.open("rb") as file:
        frames = _frames(file)
        end_frame = frames if end_frame is None else min(end_frame, frames)
        if start_frame >= end_frame or count < 1:
            return np.empty((0, 2), np.int8)
        lengths = _lengths(frames)
        level, per_pair = 0, FRAMES_PER_PAIR
        while level + 1 < len(lengths) and (end_frame - start_frame) / (per_pair * _JOINED) >= count:
            level, per_pair = level + 1, per_pair * _JOINED
        first, stop = start_frame // per_pair, -(-end_frame // per_pair)
        file.seek(_HEAD.size + 2 * (sum(lengths[:level]) + first))
        pairs = np.frombuffer(file.read(2 * (stop - first)), np.int8).reshape(-1, 2)
    if len(pairs) <= count:
        return pairs
    return _reduced(pairs, np.arange(count) * len(pairs) // count)


def _frames(file: BinaryIO) -> int:
    head = file.read(_HEAD.size)
    magic, frames = _HEAD.unpack(head) if len(head) == _HEAD.size else (b"", 0)
    if magic != _MAGIC:
        raise ValueError("no waveform, or not whole")
    return int(frames)


def _lengths(frames: int) -> list[int]:
    """How many pairs each level has, from the ground up."""
    lengths = [-(-frames // FRAMES_PER_PAIR)]
    while lengths[-1] > _SHORT:
        lengths.append(-(-lengths[-1] // _JOINED))
    return lengths


def _reduced(pairs: np.ndarray, starts: np.ndarray) -> np.ndarray:
    return np.stack([np.minimum.reduceat(pairs[:, 0], starts), np.maximum.reduceat(pairs[:, 1], starts)], axis=1)
