"""Between ratios and decibels, with silence as minus infinity."""

from math import inf, log10

import numpy as np


def db_of_power(power: float) -> float:
    """10 log10 of a mean square; -inf for none.

    >>> db_of_power(0.5)
    -3.010299956639812
    """
    return 10 * log10(power) if power > 0 else -inf


def db_of_amplitude(amplitude: float) -> float:
    """20 log10 of an amplitude; -inf for none."""
    return 20 * log10(amplitude) if amplitude > 0 else -inf


def amplitude_of_db(level_db: float) -> float:
    """The amplitude of a level: 10^(dB/20)."""
    return 10 ** (level_db / 20)


def db_of_powers(power: np.ndarray) -> np.ndarray:
    """`db_of_power` over an array."""
    with np.errstate(divide="ignore"):
        told: np.ndarray = 10 * np.log10(power)
        return told
