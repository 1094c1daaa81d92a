"""The simplest shaping: louder or quieter."""

from collections.abc import Iterator

import numpy as np

from mastering.meters.decibels import amplitude_of_db


def gained(blocks: Iterator[np.ndarray], gain_db: float) -> Iterator[np.ndarray]:
    """Scale every sample by a gain in dB; 0 passes through untouched."""
    if gain_db == 0:
        yield from blocks
        return
    factor = np.float32(amplitude_of_db(gain_db))
    for block in blocks:
        yield block * factor
