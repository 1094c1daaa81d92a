"""True peak: the highest point of the signal between its samples (ITU-R BS.1770-5 annex 2)."""

import numpy as np

_PHASES = 4
_TAPS = 24
_SEGMENT = 32
_BEFORE = _TAPS // 2 - 1
_AFTER = _TAPS // 2
_SEGMENTS_A_STRETCH = 4
CONTEXT = _SEGMENT * _SEGMENTS_A_STRETCH
"""How many samples on each side of a stretch `peaks_between` wants to see."""


def _interpolator() -> np.ndarray:
    """Return the (taps, 3) filter for the points a quarter, a half and three quarters after a sample."""
    offsets = np.arange(_TAPS) - _BEFORE
    fractions = np.arange(1, _PHASES) / _PHASES
    times = fractions[None, :] - offsets[:, None]
    window = np.i0(6.0 * np.sqrt(np.clip(1 - (times / (_TAPS / 2)) ** 2, 0, None))) / np.i0(6.0)
    taps = np.sinc(times) * window
    told: np.ndarray = taps / taps.sum(axis=0)
    return told


def _segment_matrix(taps: np.ndarray) -> np.ndarray:
    """Lay the filter out so that one product interpolates a whole segment: (_SEGMENT + _TAPS - 1, 3 * _SEGMENT)."""
    matrix = np.zeros((_SEGMENT + _TAPS - 1, _PHASES - 1, _SEGMENT), np.float32)
    for sample in range(_SEGMENT):
        matrix[sample : sample + _TAPS, :, sample] = taps
    return matrix.reshape(_SEGMENT + _TAPS - 1, -1)


_FILTER = _interpolator()
_MATRIX = _segment_matrix(_FILTER)
_REACH = np.arange(len(_MATRIX)) + CONTEXT - _BEFORE
_HIGHEST_GAIN = float(np.abs(_FILTER).sum(axis=0).max()) * 1.0001
"""No interpolated point exceeds the highest sample around it times this (the filter's absolute sum)."""


def peaks_between(padded: np.ndarray, *, above: float) -> np.ndarray:
    """Find the highest of each sample and the three points after it, oversampled four times.

    Parameters
    ----------
    padded
        Shape (CONTEXT + frames + CONTEXT,), float32: one channel with its neighbours; frames is a multiple
        of CONTEXT.
    above
        Only stretches that could reach beyond this amplitude are interpolated; elsewhere the sample's own
        magnitude stands. The result is exact wherever it exceeds `above`.

    Returns
    -------
    np.ndarray, shape (frames,), float32
    """
    magnitude = np.abs(padded)
    own: np.ndarray = magnitude[CONTEXT:-CONTEXT]
    highest = np.maximum.reduceat(magnitude, np.arange(0, len(magnitude), CONTEXT))
    around = np.maximum(np.maximum(highest[:-2], highest[1:-1]), highest[2:])
    chosen = np.flatnonzero(around * _HIGHEST_GAIN > above)
    if len(chosen):
        segments = (chosen[:, None] * _SEGMENTS_A_STRETCH + np.arange(_SEGMENTS_A_STRETCH)).ravel()
        between = padded[segments[:, None] * _SEGMENT + _REACH] @ _MATRIX
        np.abs(between, out=between)
        rows = own.reshape(-1, _SEGMENT)
        rows[segments] = np.maximum.reduce(
            [rows[segments], *(between[:, at : at + _SEGMENT] for at in range(0, between.shape[1], _SEGMENT))]
        )
    return own


def loudest_channel(samples: np.ndarray) -> np.ndarray:
    """The highest magnitude over the channels: (frames, channels) to (frames,)."""
    loudest: np.ndarray = np.abs(samples[:, 0])
    for channel in range(1, samples.shape[1]):
        np.maximum(loudest, np.abs(samples[:, channel]), out=loudest)
    return loudest


class TruePeakMeter:
    """Track the true peak of a stream. Add blocks of any length, then read `peak()`."""

    def __init__(self, channels: int):
        self._waiting = np.zeros((2 * CONTEXT, channels), np.float32)
        self._highest = 0.0

    def add(self, block: np.ndarray, highest_sample: float) -> None:
        """Take a float32 block of shape (frames, channels) and the magnitude of its highest sample."""
        self._highest = max(self._highest, highest_sample)
        self._waiting = np.concatenate([self._waiting, block])
        ready = len(self._waiting) // CONTEXT * CONTEXT
        if ready > 2 * CONTEXT:
            self._take(self._waiting[:ready])
            self._waiting = self._waiting[ready - 2 * CONTEXT :]

    def peak(self) -> float:
        """The true peak of all that was added, as an amplitude, full scale 1.0. Call once, at the end."""
        missing = -len(self._waiting) % CONTEXT + CONTEXT
        self._take(np.concatenate([self._waiting, np.zeros((missing, self._waiting.shape[1]), np.float32)]))
        return self._highest

    def _take(self, padded: np.ndarray) -> None:
        for channel in range(padded.shape[1]):
            peaks = peaks_between(np.ascontiguousarray(padded[:, channel]), above=self._highest)
            self._highest = max(self._highest, float(peaks.max()))
