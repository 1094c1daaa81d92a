"""What shaping, gain and limiter would do to the levels, worked out on the 10 ms envelope without touching a sample."""

from dataclasses import dataclass

import numpy as np
import scipy

from mastering.meters import loudness
from mastering.meters.decibels import amplitude_of_db, db_of_power
from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, is_silent, powers, quantised
from mastering.shaping.chain import Chain
from mastering.shaping.edges import Edges, edged_cells
from mastering.shaping.limiter import RELEASE_DB_PER_S

_CHUNK_CELLS = 60000
_STEP_CELLS = 10
_HUSH_CELLS = 9
_HUSH_OVER = 1.5
"""Noise alone varies from cell to cell by less than this, averaged over 90 ms."""


@dataclass(frozen=True)
class Rehearsed:
    """Predicted levels; `limited_db` is how far the limiter would reach down at the most.

    `steps` is the weighted mean square of each whole 100 ms, `limiting_db` the most the limiter takes in each of them;
    both of shape (n,).
    """

    integrated_lufs: float | None
    rms_dbfs: float
    limited_db: float
    steps: np.ndarray
    limiting_db: np.ndarray

    @property
    def loudness_range_lu(self) -> float | None:
        return loudness.loudness_range(self.steps)


def reshaped(envelope: Envelope, chain: Chain) -> Envelope:
    """The envelope as it would be after a chain; the rumble filter has to have been measured already.

    Hush is taken to lower what stands no higher than the noise, and to leave alone what stands far above it.
    """
    if chain.edges == Edges() and not chain.hush_db and chain.ride_db is None:
        return envelope
    quiet = _cells(chain.quiet_s, len(envelope))
    places = edged_cells(len(envelope), chain.edges, quiet, CELLS_PER_SECOND)
    shift = round(-chain.edges.head_s * CELLS_PER_SECOND)
    noise = powers(envelope.power[slice(*_cells(chain.noise_s, len(envelope)))]).mean() if chain.hush_db else 0.0
    shaped = Envelope(*(np.empty(len(places), np.int16) for _ in range(3)))
    for start in range(0, len(places), _CHUNK_CELLS):
        part = slice(start, start + _CHUNK_CELLS)
        here = places[part]
        factor = np.ones(len(here))
        if chain.hush_db:
            factor *= _hushing(powers(envelope.power[here]), noise, chain.hush_db)
        if chain.ride_db is not None:
            along = np.clip(np.arange(start, start + len(here)) + shift, 0, len(chain.ride_db) - 1)
            factor *= 10 ** (chain.ride_db[along] / 10)
        for name in ("weighted", "power", "peak"):
            getattr(shaped, name)[part] = quantised(powers(getattr(envelope, name)[here]) * factor)
    return shaped


def rehearse(envelope: Envelope, *, gain_db: float, ceiling_dbtp: float | None) -> Rehearsed:
    """Predict loudness and RMS after a gain and a limiter.

    Each cell is taken to be limited as a whole by what its highest sample asks for, so the prediction errs
    on the quiet side by some tenths of a LU when much is limited.
    """
    steps, limiting, energy, held, deepest = [], [], 0.0, 0.0, 0.0
    gain = 10 ** (gain_db / 10)
    for start in range(0, len(envelope), _CHUNK_CELLS):
        part = slice(start, start + _CHUNK_CELLS)
        weighted, power = powers(envelope.weighted[part]), powers(envelope.power[part])
        whole = len(weighted) // _STEP_CELLS * _STEP_CELLS
        if ceiling_dbtp is not None:
            limited_db, held = _limited_db(envelope.peak[part], gain_db - ceiling_dbtp, held)
            deepest = max(deepest, float(limited_db.max()))
            touched = np.flatnonzero(limited_db)
            factor = 10 ** (-limited_db[touched] / 10)
            weighted[touched] *= factor
            power[touched] *= factor
            limiting.append(limited_db[:whole].reshape(-1, _STEP_CELLS).max(axis=1).astype(np.float32))
        else:
            limiting.append(np.zeros(whole // _STEP_CELLS, np.float32))
        energy += gain * float(power.sum())
        steps.append(gain * weighted[:whole].reshape(-1, _STEP_CELLS).mean(axis=1))
    whole_steps = np.concatenate(steps)
    return Rehearsed(
        loudness.integrated(whole_steps),
        db_of_power(energy / len(envelope)),
        deepest,
        whole_steps,
        np.concatenate(limiting),
    )


def _limited_db(peaks: np.ndarray, headroom_used_db: float, held_db: float) -> tuple[np.ndarray, float]:
    over = np.where(is_silent(peaks), 0.0, np.maximum(peaks / 100 + headroom_used_db, 0.0))
    falling = np.arange(1, len(over) + 1) * (RELEASE_DB_PER_S / CELLS_PER_SECOND)
    limited = np.maximum(np.maximum.accumulate(np.maximum(over + falling, held_db)) - falling, 0.0)
    return limited, float(limited[-1])


def _hushing(power: np.ndarray, noise: float, lower_db: float) -> np.ndarray:
    least = amplitude_of_db(-lower_db)
    around = np.maximum(scipy.ndimage.uniform_filter1d(power, _HUSH_CELLS, mode="nearest"), 1e-30)
    passing = np.clip(1 - _HUSH_OVER * noise / around, 0.0, 1.0)
    return (least + (1 - least) * passing) ** 2


def _cells(where_s: tuple[float, float] | None, count: int) -> tuple[int, int]:
    if where_s is None:
        return 0, 0
    start = min(max(0, round(where_s[0] * CELLS_PER_SECOND)), max(0, count - 1))
    return start, min(count, max(start + 1, round(where_s[1] * CELLS_PER_SECOND)))
