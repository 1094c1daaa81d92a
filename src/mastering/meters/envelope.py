"""A recording in steps of 10 ms: enough to find speech and pauses and to rehearse a limiter without the samples."""

from dataclasses import dataclass

import numpy as np

CELLS_PER_SECOND = 100
_FAINTEST = 1e-40
_SILENT = np.int16(-32768)


@dataclass(frozen=True)
class Envelope:
    """Three levels for each 10 ms, in hundredths of a decibel; six bytes a cell.

    Shapes (cells,), int16. `weighted` is the K-weighted mean square summed over the channels with their
    weights, `power` the plain mean square over the channels, `peak` the highest sample. -32768 is digital
    silence.
    """

    weighted: np.ndarray
    power: np.ndarray
    peak: np.ndarray

    def __len__(self) -> int:
        return len(self.power)

    @property
    def duration_s(self) -> float:
        return len(self) / CELLS_PER_SECOND


def quantised(power: np.ndarray) -> np.ndarray:
    """Turn mean squares into hundredths of a decibel, int16."""
    centibels = np.maximum(np.rint(1000 * np.log10(np.maximum(power, _FAINTEST))), -32000)
    centibels[power == 0] = _SILENT
    told: np.ndarray = centibels.astype(np.int16)
    return told


def powers(levels: np.ndarray) -> np.ndarray:
    """Turn hundredths of a decibel back into mean squares, float64; silence becomes 0."""
    told: np.ndarray = _POWERS[levels.view(np.uint16)]
    return told


_EVERY_LEVEL = np.arange(1 << 16).astype(np.uint16).view(np.int16)
_POWERS = np.where(_EVERY_LEVEL == _SILENT, 0.0, 10.0 ** (_EVERY_LEVEL / 1000.0))
"""The mean square of every level there is, by its bits: half a megabyte, and four times as fast as working it out."""


def is_silent(levels: np.ndarray) -> np.ndarray:
    """Tell which cells are digital silence, bool."""
    told: np.ndarray = levels == _SILENT
    return told
