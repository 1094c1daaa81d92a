"""Slow changes of a voice's level evened out, as a careful hand on a fader would do it."""

from collections.abc import Iterator

import numpy as np
import scipy

from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, powers
from mastering.meters.speech import spoken_cells, threshold_between_words

MOST_DB = 9.0
FASTEST_DB_PER_S = 3.0
_LEVEL_CELLS = 2 * CELLS_PER_SECOND
"""The level of a voice is taken over two seconds of speech: several words, less than a sentence."""
_FAINTEST = 1e-12


def ride_curve(envelope: Envelope) -> np.ndarray:
    """The gain of each 10 ms, dB, float32 of shape (cells,); 0 throughout where there is hardly any speech.

    Each stretch of speech is brought towards the middle between the loud and the quiet ones, by at most MOST_DB and
    never faster than FASTEST_DB_PER_S. The gain moves in speech alone: time stands still for it in pauses, where it
    stays as low as at the quieter of the words beside them. A change of level is met halfway, with as much of the way
    before it as after it.
    """
    threshold = threshold_between_words(envelope.weighted)
    curve = np.zeros(len(envelope), np.float32)
    if threshold is None:
        return curve
    spoken = np.flatnonzero(spoken_cells(envelope.weighted, threshold)).astype(np.int32)
    if len(spoken) < 2 * _LEVEL_CELLS:
        return curve
    power = scipy.ndimage.uniform_filter1d(powers(envelope.weighted[spoken]), _LEVEL_CELLS, mode="nearest")
    level_db = 10 * np.log10(np.maximum(power, _FAINTEST))
    middle_db = float(np.percentile(level_db, [10, 90]).mean())
    wanted_db = np.clip(middle_db - level_db, -MOST_DB, MOST_DB)
    # The lowest curve that slow above what is wanted, and the highest below it; halfway between them lies the ride.
    gains_db = ((_slow_below(wanted_db) - _slow_below(-wanted_db)) / 2).astype(np.float32)
    following = np.searchsorted(spoken, np.arange(len(curve), dtype=np.int32))
    last = len(gains_db) - 1
    curve[:] = np.minimum(gains_db[np.maximum(following - 1, 0)], gains_db[np.minimum(following, last)])
    curve[spoken] = gains_db
    return curve


def ridden(
    blocks: Iterator[np.ndarray], curve_db: np.ndarray, *, sample_rate_hz: int, start_s: float = 0.0
) -> Iterator[np.ndarray]:
    """Let float32 blocks of shape (frames, channels) follow a curve from `ride_curve`.

    `start_s` is where on the curve the first frame lies; before its start and after its end the curve stays level.
    """
    amplitudes = (10 ** (curve_db / 20)).astype(np.float32)
    middles = np.arange(len(amplitudes)) + 0.5
    at = start_s * sample_rate_hz
    for block in blocks:
        first = max(0, int(at * CELLS_PER_SECOND / sample_rate_hz) - 2)
        last = int((at + len(block)) * CELLS_PER_SECOND / sample_rate_hz) + 3
        near = slice(min(first, len(amplitudes) - 1), max(last, 1))
        positions = (at + np.arange(len(block))) * (CELLS_PER_SECOND / sample_rate_hz)
        gains = np.interp(positions, middles[near], amplitudes[near]).astype(np.float32)
        at += len(block)
        yield block * gains[:, None]


def _slow_below(wanted_db: np.ndarray) -> np.ndarray:
    """The highest curve nowhere above what is wanted that moves no faster than it may."""
    way_db = np.arange(len(wanted_db)) * (FASTEST_DB_PER_S / CELLS_PER_SECOND)
    forward = np.minimum.accumulate(wanted_db - way_db) + way_db
    backward = (np.minimum.accumulate(wanted_db[::-1] - way_db) + way_db)[::-1]
    told: np.ndarray = np.minimum(forward, backward)
    return told
