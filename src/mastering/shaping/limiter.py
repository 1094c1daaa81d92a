"""A look-ahead limiter that holds the true peak under a ceiling.

The gain falls along a ramp that ends as the peak arrives, and recovers at a steady rate. Where nothing exceeds
the ceiling the samples pass through bit for bit. Output and input are aligned to the sample.
"""

from collections.abc import Iterator

import numpy as np
import scipy

from mastering.meters.decibels import amplitude_of_db
from mastering.meters.truepeak import CONTEXT, peaks_between

LOOK_AHEAD_S = 0.005
RELEASE_DB_PER_S = 30.0
_GROUP = 16
"""The gain is worked out for each so many samples and runs in straight lines between."""
_CHUNK = 256 * CONTEXT
_RAMP = (np.arange(_GROUP) / _GROUP).astype(np.float32)


def limited(
    blocks: Iterator[np.ndarray], *, ceiling_dbtp: float, sample_rate_hz: int, channels: int
) -> Iterator[np.ndarray]:
    """Limit float32 blocks of shape (frames, channels); all channels get the same gain.

    The gain, in dB, falls by at most its full depth within LOOK_AHEAD_S and rises by at most
    RELEASE_DB_PER_S.
    """
    ceiling = amplitude_of_db(ceiling_dbtp)
    curve = _GainCurve(sample_rate_hz)
    length = _Length()
    delayed = np.zeros((curve.delay_frames, channels), np.float32)
    before_start = curve.delay_frames
    taken = 0
    for chunk, attenuation_db in _with_attenuation(_chunked(length.of(blocks), delayed), ceiling, channels):
        waiting = np.concatenate([delayed, chunk])
        delayed = waiting[len(chunk) :]
        gains = curve.gains(attenuation_db, len(chunk))
        shaped = waiting[: len(chunk)] if gains is None else waiting[: len(chunk)] * gains[:, None]
        shaped = shaped[before_start:]
        before_start = 0
        shaped = shaped[: length.frames - taken] if length.ended else shaped
        taken += len(shaped)
        if len(shaped):
            yield shaped


class _Length:
    """Counts a stream as it passes, so that what was added behind it can be cut off again."""

    def __init__(self) -> None:
        self.frames = 0
        self.ended = False

    def of(self, blocks: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
        for block in blocks:
            self.frames += len(block)
            yield block
        self.ended = True


def _chunked(blocks: Iterator[np.ndarray], end: np.ndarray) -> Iterator[np.ndarray]:
    """Cut a stream into chunks of _CHUNK frames; `end` and zeros up to a multiple of CONTEXT follow it."""
    waiting = end[:0]
    for block in blocks:
        waiting = np.concatenate([waiting, block]) if len(waiting) else block
        while len(waiting) >= _CHUNK:
            yield waiting[:_CHUNK]
            waiting = waiting[_CHUNK:]
    rest = np.concatenate([waiting, end])
    yield np.concatenate([rest, np.zeros((-len(rest) % CONTEXT, rest.shape[1]), np.float32)])


def _with_attenuation(
    chunks: Iterator[np.ndarray], ceiling: float, channels: int
) -> Iterator[tuple[np.ndarray, np.ndarray | None]]:
    """Each chunk with the attenuation, dB, that each group of its samples asks for; None for none at all."""
    before = np.zeros((CONTEXT, channels), np.float32)
    current: np.ndarray | None = next(chunks)
    while current is not None:
        following = next(chunks, None)
        after = np.zeros((CONTEXT, channels), np.float32) if following is None else following[:CONTEXT]
        padded = np.concatenate([before, current, after])
        yield current, _attenuation_db(padded, ceiling)
        before = current[-CONTEXT:]
        current = following


def _attenuation_db(padded: np.ndarray, ceiling: float) -> np.ndarray | None:
    highest = 0.0
    for channel in range(padded.shape[1]):
        peaks = peaks_between(np.ascontiguousarray(padded[:, channel]), above=ceiling)
        if peaks.max() > ceiling:
            highest = np.maximum(highest, peaks.reshape(-1, _GROUP).max(axis=1))
    return 20 * np.log10(np.maximum(highest / ceiling, 1.0)) if np.any(highest) else None


class _GainCurve:
    """From what each group of samples asks for to a gain with a ramp before each peak and a steady release."""

    def __init__(self, sample_rate_hz: int):
        self._ahead = max(1, round(LOOK_AHEAD_S * sample_rate_hz / _GROUP))
        self._delay = self._ahead + 1
        self.delay_frames = self._delay * _GROUP
        self._release_db = RELEASE_DB_PER_S * _GROUP / sample_rate_hz
        self._held_db = 0.0
        # Holds what a group's gain depends on: the mean over the look-ahead reaches as far back as ahead.
        self._history_db = np.zeros(self._delay + self._ahead + 1)
        self._at_rest = True

    def gains(self, attenuation_db: np.ndarray | None, frames: int) -> np.ndarray | None:
        """The gain for each of the samples `delay_frames` earlier, float32; None where it is 1 throughout."""
        if attenuation_db is None:
            if self._at_rest:
                return None
            attenuation_db = np.zeros(frames // _GROUP)
        line = np.concatenate([self._history_db, self._released(attenuation_db)])
        self._history_db = line[-len(self._history_db) :]
        self._at_rest = not self._history_db.any()
        # The highest from one group back to the look-ahead, then the mean over the look-ahead: at a group and
        # at its end never less than the group asks for, since each averaged maximum has seen it.
        highest = scipy.ndimage.maximum_filter1d(line, self._ahead + 2, origin=-(self._ahead // 2))
        highest = highest[1 : len(line) - self._ahead]
        total = np.concatenate([[0.0], np.cumsum(highest)])
        width = self._ahead + 1
        smooth_db = np.maximum((total[width:] - total[:-width]) / width, 0.0)
        at_groups = (10 ** (-smooth_db / 20)).astype(np.float32)
        told: np.ndarray = (at_groups[:-1, None] + np.diff(at_groups)[:, None] * _RAMP).ravel()
        return told

    def _released(self, attenuation_db: np.ndarray) -> np.ndarray:
        falling = np.arange(1, len(attenuation_db) + 1) * self._release_db
        held: np.ndarray = np.maximum.accumulate(np.maximum(attenuation_db + falling, self._held_db)) - falling
        np.maximum(held, 0.0, out=held)
        self._held_db = float(held[-1])
        return held
