"""Where a mark is best set near the place that was pointed at."""

import numpy as np

from mastering.editing.pauses import Pauses

REACH_S = 0.05
"""How far a mark is moved to a zero crossing at most."""


def nearest_zero(samples: np.ndarray, at: int) -> int:
    """The sample nearest to `at` that follows a change of sign, or is zero; `at` where there is none.

    Parameters
    ----------
    samples
        Float32, shape (n, channels). With several channels, their mean is looked at.

    >>> nearest_zero(np.float32([[3], [1], [-1], [-2], [4]]), 1)
    2
    """
    mean = samples.mean(axis=1)
    crossing = np.flatnonzero((mean[1:] == 0) | (np.sign(mean[1:]) * np.sign(mean[:-1]) < 0)) + 1
    if not len(crossing):
        return at
    return int(crossing[np.argmin(np.abs(crossing - at))])


def middle_of_pause(pauses: Pauses, at_s: float) -> float:
    """The middle of the pause nearest to a time, seconds; the time itself where there is no pause."""
    if not len(pauses):
        return at_s
    inside = np.flatnonzero((pauses.starts_s <= at_s) & (at_s <= pauses.ends_s))
    if len(inside):
        return float(pauses.middles_s[inside[0]])
    return float(pauses.middles_s[np.argmin(np.abs(pauses.middles_s - at_s))])
