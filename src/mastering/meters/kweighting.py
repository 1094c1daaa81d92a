"""The K-weighting filter of ITU-R BS.1770-5, designed anew for each sample rate."""

from functools import cache
from math import pi, tan

import numpy as np

# The analogue prototype behind the 48 kHz coefficients of BS.1770-5 annex 1, tables 1 and 2: with these values
# the bilinear transform gives those tables back to ten digits (the tests hold them against each other).
_SHELF_HZ, _SHELF_DB, _SHELF_Q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
_HIGH_PASS_HZ, _HIGH_PASS_Q = 38.13547087602444, 0.5003270373238773

CHANNEL_NAMES = {1: ("FC",), 2: ("FL", "FR")}
"""The positions of mono and of stereo."""


@cache
def k_weighting(sample_rate_hz: int) -> np.ndarray:
    """Design the two-stage K-weighting filter.

    Returns
    -------
    np.ndarray of shape (2, 6), float64
        Second-order sections as scipy.signal.sosfilt takes them: the high shelf, then the high-pass.

    Example
    -------
    >>> k_weighting(48000)[0, :3].round(8).tolist()
    [1.53512486, -2.69169619, 1.19839281]
    """
    return np.array([_high_shelf(sample_rate_hz), _high_pass(sample_rate_hz)])


def _high_shelf(rate_hz: int) -> list[float]:
    k = tan(pi * _SHELF_HZ / rate_hz)
    high = 10 ** (_SHELF_DB / 20)
    band = high**0.4996667741545416
    a0 = 1 + k / _SHELF_Q + k * k
    return [
        (high + band * k / _SHELF_Q + k * k) / a0,
        2 * (k * k - high) / a0,
        (high - band * k / _SHELF_Q + k * k) / a0,
        1.0,
        2 * (k * k - 1) / a0,
        (1 - k / _SHELF_Q + k * k) / a0,
    ]


def _high_pass(rate_hz: int) -> list[float]:
    k = tan(pi * _HIGH_PASS_HZ / rate_hz)
    a0 = 1 + k / _HIGH_PASS_Q + k * k
    return [1.0, -2.0, 1.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / _HIGH_PASS_Q + k * k) / a0]


def channel_weights(channel_names: tuple[str, ...]) -> np.ndarray:
    """Return the loudness weight of each channel, by position (BS.1770-5 annex 1 table 3 and annex 3).

    1.41 for channels at the listener's side or, where there are no side channels, behind; 0 for the
    low-frequency channel; 1.0 for all others, and where the file does not say.

    >>> channel_weights(("FL", "FR", "FC", "LFE", "BL", "BR")).tolist()
    [1.0, 1.0, 1.0, 0.0, 1.41, 1.41]
    """
    surrounds = {"SL", "SR"} if "SL" in channel_names else {"BL", "BR"}
    weights = {"LFE": 0.0, "LFE2": 0.0} | dict.fromkeys(surrounds, 1.41)
    return np.array([weights.get(name, 1.0) for name in channel_names])
