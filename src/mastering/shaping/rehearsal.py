"""What gain and limiter would do to the levels, worked out on the 10 ms envelope without touching a sample."""

from dataclasses import dataclass

import numpy as np

from mastering.meters import loudness
from mastering.meters.decibels import db_of_power
from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, is_silent, powers
from mastering.shaping.limiter import RELEASE_DB_PER_S

_CHUNK_CELLS = 60000
_STEP_CELLS = 10


@dataclass(frozen=True)
class Rehearsed:
    """Predicted levels; `limited_db` is how far the limiter would reach down at the most."""

    integrated_lufs: float | None
    rms_dbfs: float
    limited_db: float


def rehearse(envelope: Envelope, *, gain_db: float, ceiling_dbtp: float | None) -> Rehearsed:
    """Predict loudness and RMS after a gain and a limiter.

    Each cell is taken to be limited as a whole by what its highest sample asks for, so the prediction errs
    on the quiet side by some tenths of a LU when much is limited.
    """
    steps, energy, held, deepest = [], 0.0, 0.0, 0.0
    gain = 10 ** (gain_db / 10)
    for start in range(0, len(envelope), _CHUNK_CELLS):
        part = slice(start, start + _CHUNK_CELLS)
        weighted, power = powers(envelope.weighted[part]), powers(envelope.power[part])
        if ceiling_dbtp is not None:
            limited_db, held = _limited_db(envelope.peak[part], gain_db - ceiling_dbtp, held)
            deepest = max(deepest, float(limited_db.max()))
            touched = np.flatnonzero(limited_db)
            factor = 10 ** (-limited_db[touched] / 10)
            weighted[touched] *= factor
            power[touched] *= factor
        energy += gain * float(power.sum())
        whole = len(weighted) // _STEP_CELLS * _STEP_CELLS
        steps.append(gain * weighted[:whole].reshape(-1, _STEP_CELLS).mean(axis=1))
    return Rehearsed(loudness.integrated(np.concatenate(steps)), db_of_power(energy / len(envelope)), deepest)


def _limited_db(peaks: np.ndarray, headroom_used_db: float, held_db: float) -> tuple[np.ndarray, float]:
    over = np.where(is_silent(peaks), 0.0, np.maximum(peaks / 100 + headroom_used_db, 0.0))
    falling = np.arange(1, len(over) + 1) * (RELEASE_DB_PER_S / CELLS_PER_SECOND)
    limited = np.maximum(np.maximum.accumulate(np.maximum(over + falling, held_db)) - falling, 0.0)
    return limited, float(limited[-1])
