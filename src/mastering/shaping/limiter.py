"""A look-ahead limiter that holds the true peak under a ceiling.

The gain falls along a ramp that ends as the peak arrives, and recovers at a steady rate. Where nothing exceeds
the ceiling the samples pass through bit for bit. Output and input are aligned to the sample.
"""

from collections.abc import Iterator

import numpy as np
from scipy.ndimage import maximum_filter1d

from mastering.meters.decibels import amplitude_of_db
from mastering.meters.truepeak import CONTEXT, peaks_between

LOOK_AHEAD_S = 0.005
RELEASE_DB_PER_S = 30.0
_CHUNK = 8192


def limited(
    blocks: Iterator[np.ndarray], *, ceiling_dbtp: float, sample_rate_hz: int, channels: int
) -> Iterator[np.ndarray]:
    """Limit float32 blocks of shape (frames, channels); all channels get the same gain.

    The gain, in dB, falls by at most its full depth within LOOK_AHEAD_S and rises by at most
    RELEASE_DB_PER_S.
    """
    envelope = _AttenuationEnvelope(sample_rate_hz)
    required = _Required(ceiling_dbtp, channels)
    delayed = np.zeros((envelope.delay, channels), np.float32)
    to_drop = envelope.delay
    silence = np.zeros((envelope.delay, channels), np.float32)
    for samples, attenuation_db in required.of(_chunked(blocks, silence)):
        waiting = np.concatenate([delayed, samples])
        shaped = waiting[: len(samples)]
        delayed = waiting[len(samples) :]
        smooth_db = envelope.smooth(attenuation_db)
        if smooth_db is not None:
            shaped = shaped * np.exp(smooth_db * (-np.log(10) / 20)).astype(np.float32)[:, None]
        dropped = min(to_drop, len(shaped))
        to_drop -= dropped
        if len(shaped) > dropped:
            yield shaped[dropped:]


class _Required:
    """The attenuation each sample asks for by itself, dB, from its true peak."""

    def __init__(self, ceiling_dbtp: float, channels: int):
        self._ceiling = amplitude_of_db(ceiling_dbtp)
        self._before = np.zeros((CONTEXT, channels), np.float32)

    def of(self, chunks: Iterator[np.ndarray]) -> Iterator[tuple[np.ndarray, np.ndarray]]:
        current = next(chunks, None)
        while current is not None:
            following = next(chunks, None)
            yield current, self._attenuation_db(current, following)
            self._before = np.concatenate([self._before, current])[-CONTEXT:]
            current = following

    def _attenuation_db(self, current: np.ndarray, following: np.ndarray | None) -> np.ndarray:
        after = np.zeros((CONTEXT + -len(current) % CONTEXT, current.shape[1]), np.float32)
        if following is not None:
            copied = min(len(after), len(following))
            after[:copied] = following[:copied]
        padded = np.concatenate([self._before, current, after])
        highest = None
        for channel in range(current.shape[1]):
            peaks = peaks_between(np.ascontiguousarray(padded[:, channel]), above=self._ceiling)
            highest = peaks if highest is None else np.maximum(highest, peaks, out=highest)
        over = np.maximum(highest[: len(current)] * np.float32(1 / self._ceiling), np.float32(1.0))
        return 20 * np.log10(over, out=over) if over.max() > 1.0 else np.zeros(len(current), np.float32)


class _AttenuationEnvelope:
    """From what each sample asks for to a gain curve with a ramp before each peak and a steady release."""

    def __init__(self, sample_rate_hz: int):
        self.delay = round(LOOK_AHEAD_S * sample_rate_hz)
        self._release_db = RELEASE_DB_PER_S / sample_rate_hz
        self._held = 0.0
        self._history = np.zeros(2 * self.delay)

    def smooth(self, attenuation_db: np.ndarray) -> np.ndarray | None:
        """The attenuation for the samples `delay` earlier, dB; None where there is none at all."""
        if not attenuation_db.any() and not self._held and not self._history.any():
            return None
        falling = np.arange(1, len(attenuation_db) + 1) * self._release_db
        held = np.maximum.accumulate(np.maximum(attenuation_db + falling, self._held)) - falling
        np.maximum(held, 0.0, out=held)
        self._held = float(held[-1])
        line = np.concatenate([self._history, held])
        self._history = line[-2 * self.delay :]
        # The highest over the look-ahead, then the mean over it: never less than what the sample asks for,
        # since each of the averaged maxima has seen that sample.
        width = self.delay + 1
        ahead = maximum_filter1d(line, width, origin=-(width // 2), mode="nearest")[: len(line) - self.delay]
        total = np.concatenate([[0.0], np.cumsum(ahead)])
        return np.maximum((total[width:] - total[:-width]) / width, 0.0)


def _chunked(blocks: Iterator[np.ndarray], end: np.ndarray) -> Iterator[np.ndarray]:
    """Cut the stream into chunks longer than any filter's reach, with `end` after the last."""
    waiting: list[np.ndarray] = []
    frames = 0
    for block in blocks:
        waiting.append(block)
        frames += len(block)
        if frames >= _CHUNK:
            yield np.concatenate(waiting)
            waiting, frames = [], 0
    yield np.concatenate([*waiting, end])
