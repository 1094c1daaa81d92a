"""The drawn shape of a recording: the lowest and highest sample of each short stretch, small enough to send."""

from pathlib import Path

import numpy as np

FRAMES_PER_PAIR = 256


class WaveformWriter:
    """Write pairs of int8 (lowest, highest; 127 is full scale) for each FRAMES_PER_PAIR samples of the mean
    of all channels. Add blocks of any length; nothing but the last few samples is kept in memory."""

    def __init__(self, path: Path):
        self._file = path.open("wb")
        self._rest = np.empty(0, np.float32)

    def add(self, block: np.ndarray) -> None:
        """Take a float32 block of shape (frames, channels)."""
        mixed = np.concatenate([self._rest, block.mean(axis=1) if block.shape[1] > 1 else block[:, 0]])
        whole = len(mixed) - len(mixed) % FRAMES_PER_PAIR
        self._write(mixed[:whole].reshape(-1, FRAMES_PER_PAIR))
        self._rest = mixed[whole:]

    def close(self) -> None:
        """Write what is left and complete the file."""
        if len(self._rest):
            self._write(self._rest.reshape(1, -1))
        self._file.close()

    def _write(self, rows: np.ndarray) -> None:
        pairs = np.stack([rows.min(axis=1), rows.max(axis=1)], axis=1)
        self._file.write(np.rint(np.clip(pairs, -1, 1) * 127).astype(np.int8).tobytes())


def columns(path: Path, count: int) -> np.ndarray:
    """Read a waveform drawn down to at most `count` columns.

    Returns int8, shape (n, 2), n ≤ count: lowest and highest of each column.
    """
    if not path.stat().st_size:
        return np.empty((0, 2), np.int8)
    pairs = np.memmap(path, np.int8, "r").reshape(-1, 2)
    if len(pairs) <= count:
        return np.array(pairs)
    starts = np.arange(count) * len(pairs) // count
    return np.stack([np.minimum.reduceat(pairs[:, 0], starts), np.maximum.reduceat(pairs[:, 1], starts)], axis=1)
