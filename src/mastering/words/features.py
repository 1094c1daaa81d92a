"""What a voice sounds like from moment to moment: mel-frequency cepstra, 50 a second, of a recording and of a machine.

Shapes: powers (rows, BANDS), features (rows, FEATURES), float32; one row for each 20 ms.
"""

import mmap
from collections.abc import Iterator

import numpy as np
import scipy

from mastering.meters.mel import mel_bank
from mastering.words.spoken import RATE_HZ

ROWS_PER_SECOND = 50
BANDS = 22
_HOP = RATE_HZ // ROWS_PER_SECOND
_WINDOW = 256
_LOWEST_HZ, _HIGHEST_HZ = 120, 3700
_PRE_EMPHASIS = np.float32(0.95)
_CEPSTRA = 12
_CHANGES = 0.8
"""What the change of the cepstra counts beside them."""
FEATURES = 2 * _CEPSTRA
_FAINTEST = 1e-4
"""What lies 40 dB below the mean of the voice says nothing about the words."""


def powers(samples: np.ndarray, *, warp: float = 1.0) -> np.ndarray:
    """Mel powers of mono samples at RATE_HZ, shape (n,), about the middle of each row.

    `warp` above 1 is what it would be like from a shorter throat: all bands are taken that much lower.
    """
    return next(_rows(iter([samples, None]), warp), np.zeros((0, BANDS), np.float32))


def powers_of_blocks(blocks: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
    """As `powers`, of samples that come in blocks of shape (frames, 1)."""

    def pieces() -> Iterator[np.ndarray | None]:
        for block in blocks:
            yield block[:, 0]
        yield None

    yield from _rows(pieces(), 1.0)


def let_go(rows: np.ndarray) -> None:
    """Have rows that are kept in a file leave the memory; what of them is asked for again is read again."""
    kept: object = rows
    while isinstance(kept, np.ndarray):
        kept = kept.base
    if isinstance(kept, mmap.mmap):
        kept.madvise(mmap.MADV_DONTNEED)


def _rows(pieces: Iterator[np.ndarray | None], warp: float) -> Iterator[np.ndarray]:
    """Mel powers of what comes in pieces, whose end None tells."""
    bank = mel_bank(
        BANDS, lowest_hz=_LOWEST_HZ, highest_hz=_HIGHEST_HZ, window=_WINDOW, rate_hz=RATE_HZ, warp=warp
    ).astype(np.float32)
    window = np.hanning(_WINDOW).astype(np.float32)
    # The first window has its middle in the middle of the first row.
    held, last = np.zeros(_WINDOW // 2 - _HOP // 2, np.float32), np.float32(0)
    given = made = 0
    for piece in pieces:
        if piece is None:
            held = np.concatenate([held, np.zeros(_WINDOW, np.float32)])
            wanted = given // _HOP - made
        else:
            if len(piece):
                piece = piece.astype(np.float32, copy=False)
                held = np.concatenate([held, piece - _PRE_EMPHASIS * np.concatenate([[last], piece[:-1]])])
                last, given = piece[-1], given + len(piece)
            wanted = (len(held) - _WINDOW) // _HOP + 1
        if wanted > 0:
            frames = np.lib.stride_tricks.sliding_window_view(held, _WINDOW)[::_HOP][:wanted] * window
            yield (np.abs(np.fft.rfft(frames, axis=1)) ** 2 @ bank).astype(np.float32)
            held, made = held[wanted * _HOP :], made + wanted


class Voice:
    """How features are made from powers: levelled by the mean and the spread that a voice has over some minutes.

    Parameters
    ----------
    sample
        Mel powers of some minutes, shape (rows, BANDS).
    spoken
        Which of its rows are speech, bool, shape (rows,).
    noise
        Mean mel powers of the noise that is to lie under it, at the level of the sample; shape (BANDS,).
    """

    def __init__(self, sample: np.ndarray, spoken: np.ndarray, noise: np.ndarray | float = 0.0):
        self.level = float(sample[spoken].sum(axis=1).mean()) if spoken.any() else 1.0
        self._added = np.asarray(noise + _FAINTEST * self.level / BANDS, np.float32)
        cepstra = self._cepstra(sample)
        weighed = cepstra[spoken] if spoken.any() else cepstra
        self._mean, self._spread = weighed.mean(axis=0), np.maximum(weighed.std(axis=0), 1e-6)
        changes = _changes((cepstra - self._mean) / self._spread)
        self._change_spread = np.maximum((changes[spoken] if spoken.any() else changes).std(axis=0), 1e-6)

    def features(self, given: np.ndarray) -> np.ndarray:
        """Features of powers that follow each other in time."""
        level = (self._cepstra(given) - self._mean) / self._spread
        change = _changes(level) / self._change_spread
        return np.concatenate([level, _CHANGES * change], axis=1).astype(np.float32)

    def _cepstra(self, given: np.ndarray) -> np.ndarray:
        told: np.ndarray = scipy.fft.dct(np.log(given + self._added), axis=1, norm="ortho")[:, 1 : _CEPSTRA + 1]
        return told


def _changes(cepstra: np.ndarray) -> np.ndarray:
    """How fast each changes: the slope over five rows."""
    if not len(cepstra):
        return cepstra
    wider = np.pad(cepstra, ((2, 2), (0, 0)), mode="edge")
    told: np.ndarray = (2 * (wider[4:] - wider[:-4]) + wider[3:-1] - wider[1:-3]) / 10
    return told
