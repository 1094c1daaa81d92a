"""Loudness from the energies of 100 ms steps: ITU-R BS.1770-5, EBU Tech 3341 and 3342."""

from math import inf

import numpy as np

from mastering.meters.decibels import db_of_power, db_of_powers
from mastering.meters.envelope import powers

_OFFSET = -0.691
_ABSOLUTE_GATE_LUFS = -70.0
_RELATIVE_GATE_LU = -10.0
_RANGE_GATE_LU = -20.0
_MOMENTARY_STEPS, _SHORT_TERM_STEPS = 4, 30
_MOMENTARY_CELLS = 40
_CHUNK_CELLS = 60000


def integrated(steps: np.ndarray) -> float | None:
    """Gated programme loudness, LUFS (BS.1770-5 annex 1).

    Parameters
    ----------
    steps
        Shape (n,), float64: the weighted mean square of each whole 100 ms.

    Returns
    -------
    float or None
        None when the audio is shorter than one gating block (400 ms); -inf when nothing passes the gates.
    """
    blocks = _windows(steps, _MOMENTARY_STEPS)
    if not len(blocks):
        return None
    loud = blocks[_lufs(blocks) >= _ABSOLUTE_GATE_LUFS]
    if not len(loud):
        return -inf
    gate = _OFFSET + db_of_power(float(loud.mean())) + _RELATIVE_GATE_LU
    return _OFFSET + db_of_power(float(loud[_lufs(loud) > gate].mean()))


def once_raised(steps: np.ndarray, by_db: float) -> float | None:
    """What `integrated` will be once all is so much louder, less that: a take that is very quiet lies partly below the
    absolute gate, which it will not when it is as loud as it is to be. Never -inf.
    """
    found = integrated(steps * 10 ** (by_db / 10))
    return None if found is None or found == -inf else found - by_db


def max_momentary(cells: np.ndarray) -> float | None:
    """Highest loudness over any 400 ms, LUFS; None when shorter.

    `cells` are the weighted levels of each whole 10 ms, as the envelope keeps them: with steps of 100 ms, signal 13 of
    EBU Tech 3341 would read up to 0.6 LU low.
    """
    chunks = range(0, max(1, len(cells) - _MOMENTARY_CELLS + 1), _CHUNK_CELLS)
    found = [_highest(powers(cells[at : at + _CHUNK_CELLS + _MOMENTARY_CELLS - 1]), _MOMENTARY_CELLS) for at in chunks]
    return max((figure for figure in found if figure is not None), default=None)


def over(steps: np.ndarray, length: int) -> np.ndarray:
    """Loudness over each so many steps of 100 ms, LUFS; -inf for silence. Empty when there are fewer."""
    return _lufs(_windows(steps, length))


def max_short_term(steps: np.ndarray) -> float | None:
    """Highest loudness over any 3 s, LUFS; None when shorter."""
    return _highest(steps, _SHORT_TERM_STEPS)


def loudness_range(steps: np.ndarray) -> float | None:
    """Loudness range, LU (EBU Tech 3342): the 10th to the 95th percentile of gated short-term loudness.

    None when shorter than 3 s or when nothing passes the gates.
    """
    windows = _windows(steps, _SHORT_TERM_STEPS)
    loud = windows[_lufs(windows) >= _ABSOLUTE_GATE_LUFS]
    if not len(loud):
        return None
    gate = _OFFSET + db_of_power(float(loud.mean())) + _RANGE_GATE_LU
    low, high = np.percentile(_lufs(loud[_lufs(loud) >= gate]), [10, 95])
    return float(high - low)


def _windows(steps: np.ndarray, length: int) -> np.ndarray:
    if len(steps) < length:
        return np.empty(0)
    # Summed shift by shift, not by a running total: a whisper after a shout keeps its digits.
    shifted = (steps[start : len(steps) - length + 1 + start] for start in range(length))
    told: np.ndarray = sum(shifted, np.zeros(len(steps) - length + 1)) / length
    return told


def _lufs(power: np.ndarray) -> np.ndarray:
    return _OFFSET + db_of_powers(power)


def _highest(steps: np.ndarray, length: int) -> float | None:
    windows = _windows(steps, length)
    return _OFFSET + db_of_power(float(windows.max())) if len(windows) else None
