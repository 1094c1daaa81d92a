"""Mains hum: a steady tone at 50 or 60 Hz and its harmonics."""

from functools import lru_cache
from math import sqrt

import numpy as np

MAINS_HZ = (50, 60)
_HARMONICS = (1, 2, 3, 4, 6)
_BESIDE_HZ = (-6.5, 6.5)
"""Beside the tone, where hum has nothing and voice and room have as much as on it."""
_LOW_RATE_HZ = 1200
_QUIET_SHARE = 0.05
_FEWEST = 4
_STANDS_OUT = 10.0
"""Times the power beside it, 10 dB: noise alone gives a ratio of 1 and seldom 3 over some seconds."""


class HumMeter:
    """Listen for hum in windows of half a second, three in each second. Keeps 16 bytes for each.

    The sound is brought down to about 1.2 kHz by plain averaging; each window (Hann) is held against sines at the
    harmonics and beside them. Speech has power there too, but not in its pauses: the quietest twentieth of the
    windows decides. Common practice, no source.
    """

    def __init__(self, sample_rate_hz: int):
        self._rate_hz = sample_rate_hz
        self._joined = max(1, sample_rate_hz // _LOW_RATE_HZ)
        self._weights = np.full(self._joined, 1 / self._joined, np.float32)
        self._kept = bytearray()

    def add(self, seconds: np.ndarray) -> None:
        """Take whole seconds of the mean of all channels, shape (frames,); what is beyond them is left out."""
        count = len(seconds) // self._rate_hz
        if not count:
            return
        quarter = self._rate_hz // 4 // self._joined
        rows = seconds[: count * self._rate_hz].reshape(count, -1)[:, : 4 * quarter * self._joined]
        # A product with equal weights is five times as fast as a mean along the last axis.
        low = (rows.reshape(-1, self._joined) @ self._weights).reshape(count, 4, quarter)
        windows = np.concatenate([low[:, :-1], low[:, 1:]], axis=2).reshape(-1, 2 * quarter)
        projected = windows @ _sines(2 * quarter, self._rate_hz / self._joined)
        power = np.square(projected[:, 0::2]) + np.square(projected[:, 1::2])
        by_mains = power.reshape(len(windows), len(MAINS_HZ), len(_HARMONICS), 1 + len(_BESIDE_HZ))
        # Shape (windows, mains, 2): on the harmonics, and the mean beside them.
        sums = np.stack([by_mains[..., 0].sum(axis=2), by_mains[..., 1:].mean(axis=3).sum(axis=2)], axis=2)
        self._kept.extend(sums.astype(np.float32).tobytes())

    def hum(self) -> tuple[int, float] | None:
        """Mains frequency in hertz and RMS of the hum (1.0 is full scale), or None when none stands out."""
        windows = np.frombuffer(self._kept, np.float32).reshape(-1, len(MAINS_HZ), 2)
        if len(windows) < _FEWEST:
            return None
        found = []
        for at, mains_hz in enumerate(MAINS_HZ):
            quietest_first = np.argsort(windows[:, at].sum(axis=1))
            quiet = windows[quietest_first[: max(2, int(len(windows) * _QUIET_SHARE))], at]
            on, beside = quiet.mean(axis=0)
            if on > _STANDS_OUT * beside:
                found.append((float(on), mains_hz))
        if not found:
            return None
        power, mains_hz = max(found)
        return mains_hz, sqrt(power)


@lru_cache(maxsize=8)
def _sines(length: int, rate_hz: float) -> np.ndarray:
    """Windowed sine and cosine of each frequency looked at, shape (length, 2 n), scaled so that squares are power."""
    at_hz = [
        mains * harmonic + beside for mains in MAINS_HZ for harmonic in _HARMONICS for beside in (0.0, *_BESIDE_HZ)
    ]
    window = np.hanning(length)
    phase = 2 * np.pi * np.outer(np.arange(length) / rate_hz, at_hz)
    waves = np.stack([np.cos(phase), np.sin(phase)], axis=2).reshape(length, -1)
    # A sine of amplitude a projects to a/2 times the window's sum; its power is a²/2.
    told: np.ndarray = (waves * window[:, None] * (sqrt(2) / window.sum())).astype(np.float32)
    return told
