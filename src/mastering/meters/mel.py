"""Bands as wide as an ear's, for what voices sound like."""

import numpy as np


def mel_bank(
    bands: int, *, lowest_hz: float, highest_hz: float, window: int, rate_hz: int, warp: float = 1.0
) -> np.ndarray:
    """Triangles on the mel scale of O'Shaughnessy (2595 lg(1 + f/700)), shape (bins, bands), float64.

    A power spectrum of `window` samples, shape (n, bins), times this is the power in each band. All bands lie lower by
    `warp`.
    """
    low, high = (2595 * np.log10(1 + hz / 700) for hz in (lowest_hz, highest_hz))
    edges_hz = 700 * (10 ** (np.linspace(low, high, bands + 2) / 2595) - 1) / warp
    bins_hz = np.fft.rfftfreq(window, 1 / rate_hz)
    lower, middle, upper = (edges_hz[at : at + bands, None] for at in range(3))
    told: np.ndarray = np.clip(
        np.minimum((bins_hz - lower) / (middle - lower), (upper - bins_hz) / (upper - middle)), 0, None
    ).T
    return told
