"""Several voices on separate, aligned tracks brought to one level, each measured on its own speech alone."""

from collections.abc import Sequence

import numpy as np
import scipy

from mastering.meters.decibels import db_of_power
from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, powers
from mastering.meters.speech import active_level, spoken_cells, threshold_between_words

MOST_DB = 24.0
_ROUNDS = 6
_CLEAR_DB = 3.0
"""A word is a track's own where it is this much louder there than on any other, all brought to one level."""


def matching_gains(tracks: Sequence[tuple[Envelope, int]]) -> list[float | None]:
    """The gain for each track, dB within ±MOST_DB, that brings its voice to the level of the first track's.

    What reaches a microphone from another's speaker is not counted: a moment belongs to the track that is loudest then
    once all are at one level, which is found by doing it over until it stays.

    Parameters
    ----------
    tracks
        The envelope of each, and how many cells of 10 ms later than the recording it begins; may be negative.

    Returns
    -------
    list of float or None
        None for a track without speech of its own; the first's is 0.
    """
    start = min(offset for _, offset in tracks)
    length = max(offset - start + len(envelope) for envelope, offset in tracks)
    levels = np.zeros((len(tracks), length), np.float32)
    spoken = np.zeros((len(tracks), length), bool)
    gains_db = np.zeros(len(tracks))
    for at, (envelope, offset) in enumerate(tracks):
        threshold = threshold_between_words(envelope.weighted)
        if threshold is None:
            continue
        here = slice(offset - start, offset - start + len(envelope))
        levels[at, here] = powers(envelope.weighted)
        spoken[at, here] = spoken_cells(envelope.weighted, threshold)
        gains_db[at] = -active_level(envelope.weighted)
    own_db: list[float | None] = [None] * len(tracks)
    for _ in range(_ROUNDS):
        # Smoothed over a syllable, or a track's own dips would be taken for another's words.
        loud = np.stack([_smooth(row) * 10 ** (g / 10) for row, g in zip(levels, gains_db, strict=True)])
        before = gains_db.copy()
        for at in range(len(tracks)):
            others = np.delete(loud, at, axis=0).max(axis=0) if len(tracks) > 1 else 0.0
            own = levels[at][spoken[at] & (loud[at] > others * 10 ** (_CLEAR_DB / 10))]
            own_db[at] = level_db = _level_of(own)
            if level_db is not None:
                gains_db[at] = -level_db
        if np.abs(gains_db - before).max() < 0.05:
            break
    first_db = own_db[0]
    if first_db is None:
        return [0.0, *[None] * (len(tracks) - 1)]
    return [None if o is None else round(float(np.clip(first_db - o, -MOST_DB, MOST_DB)), 1) for o in own_db]


def _level_of(power: np.ndarray) -> float | None:
    """The mean of what is within 10 dB of the mean, as with the relative gate of ITU-R BS.1770-5, dB."""
    if len(power) < CELLS_PER_SECOND // 4 or not power.any():
        return None
    return db_of_power(float(power[power >= power.mean() * 0.1].mean()))


def _smooth(row: np.ndarray) -> np.ndarray:
    return scipy.ndimage.uniform_filter1d(row, CELLS_PER_SECOND // 5, mode="nearest")
