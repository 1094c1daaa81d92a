"""How far up the sound reaches: a file that was once slower, or lossy, is empty above a sharp edge."""

from functools import lru_cache

import numpy as np

_WINDOW = 2048
_WINDOWS_A_SECOND = 2
_BAND_HZ = 250
_LOWEST_EDGE_HZ = 3000
_HIGHEST_EDGE = 0.9
"""Of half the rate: above it lies the filter of any converter."""
_BELOW_BANDS, _TRANSITION_BANDS = 4, 3
_CLIFF_DB = 20.0
"""No voice or room falls by as much within 750 Hz (common practice, no source)."""


class BandwidthMeter:
    """Add up power spectra of two short windows in each second; keeps one spectrum."""

    def __init__(self, sample_rate_hz: int):
        self._rate_hz = sample_rate_hz
        self._power = np.zeros(_WINDOW // 2 + 1)

    def add(self, sound: np.ndarray) -> None:
        """Take some sound, the mean of all channels, shape (frames,); less than a window is left out."""
        starts = range(0, len(sound) - _WINDOW + 1, max(_WINDOW, self._rate_hz // _WINDOWS_A_SECOND))
        if len(starts):
            windows = np.stack([sound[start : start + _WINDOW] for start in starts]) * _hann()
            self._power += np.square(np.abs(np.fft.rfft(windows, axis=1))).sum(axis=0)

    def edge_hz(self) -> int | None:
        """Where the sound ends in a cliff, to 250 Hz; None where it does not."""
        per_hz = _WINDOW / self._rate_hz
        count = int(self._rate_hz / 2 / _BAND_HZ)
        if not self._power.any() or count <= _BELOW_BANDS + _TRANSITION_BANDS + 1:
            return None
        starts = np.round(np.arange(count) * _BAND_HZ * per_hz).astype(int)
        bands_db = 10 * np.log10(np.maximum(np.add.reduceat(self._power, starts), 1e-20))
        # From each band up: the loudest that lies above.
        above_db = np.maximum.accumulate(bands_db[::-1])[::-1]
        best = None
        for edge in range(_LOWEST_EDGE_HZ // _BAND_HZ, int(_HIGHEST_EDGE * count) - _TRANSITION_BANDS):
            cliff_db = bands_db[edge - _BELOW_BANDS : edge].min() - above_db[edge + _TRANSITION_BANDS]
            if cliff_db >= _CLIFF_DB and (best is None or cliff_db > best[0]):
                best = cliff_db, edge
        return None if best is None else best[1] * _BAND_HZ


@lru_cache(maxsize=1)
def _hann() -> np.ndarray:
    return np.hanning(_WINDOW).astype(np.float32)
