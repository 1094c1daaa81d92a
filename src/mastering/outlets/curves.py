"""What a plan looks like: how loud a section is before and after, as one bar and over time."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from mastering.editing.pauses import find_pauses
from mastering.meters import loudness
from mastering.meters.decibels import db_of_power
from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, is_silent, powers
from mastering.meters.meter import Levels
from mastering.outlets.levelplan import LevelPlan
from mastering.shaping.rehearsal import Rehearsed, rehearse, reshaped

_STEP_S = 0.1
_SHORT_TERM, _MOMENTARY = 30, 4
_FAINTEST_LUFS = -70.0
_BESIDE_WORDS_S = 0.1
_GATE_LU = 20.0


@dataclass(frozen=True, kw_only=True)
class Bar:
    """How loud a section is in one line; None where that is not defined.

    `low_lufs` and `high_lufs` are the 10th and 95th percentile of short-term loudness above the gates of EBU Tech 3342,
    so their distance is the loudness range; `median_lufs` lies between them.
    """

    low_lufs: float | None
    median_lufs: float | None
    high_lufs: float | None
    peak_dbtp: float | None
    noise_dbfs: float | None


@dataclass(frozen=True, kw_only=True)
class Pause:
    """Where nobody speaks, seconds, and how loud it is there before and after, dBFS; None for digital silence and for
    what is cut off.
    """

    start_s: float
    end_s: float
    before_db: float | None
    after_db: float | None


@dataclass(frozen=True, kw_only=True)
class Curves:
    """A section over time; arrays of shape (n,), NaN where there is nothing.

    `times_s` are seconds of the section as it is, below 0 for room tone put before it. `before_lufs` and `after_lufs`
    are short-term loudness, around each moment; `before_peaks_db` and `after_peaks_db` the highest sample there, dBFS;
    `gain_db` is ride and gain together, `limiting_db` what the limiter takes.
    """

    times_s: np.ndarray
    before_lufs: np.ndarray
    after_lufs: np.ndarray
    before_peaks_db: np.ndarray
    after_peaks_db: np.ndarray
    gain_db: np.ndarray
    limiting_db: np.ndarray
    pauses: list[Pause]


def bar_before(levels: Levels) -> Bar:
    """How loud a section is as it is."""
    return _bar(levels.steps, levels.true_peak_dbtp, levels.noise_floor_dbfs)


def bar_after(levels: Levels, plan: LevelPlan) -> Bar:
    """How loud a section will be."""
    told = plan.predicted
    return _bar(_after(levels, plan)[1].steps, told.get("true_peak_dbtp"), told.get("noise_floor_dbfs"))


def curves(levels: Levels, plan: LevelPlan, *, points: int) -> Curves:
    """A section over time, in at most so many points."""
    chain = plan.chain(levels.envelope)
    shaped, rehearsed = _after(levels, plan)
    shift_s = -plan.edges.head_s
    after = _short_term(rehearsed.steps)
    first = min(0.0, shift_s)
    last = max(levels.duration_s, shift_s + len(after) * _STEP_S)
    times_s = first + (np.arange(points) + 0.5) * (last - first) / points
    gain_db = np.full(points, plan.gain_db)
    if chain.ride_db is not None:
        gain_db = gain_db + chain.ride_db[np.clip((times_s * 100).astype(int), 0, len(chain.ride_db) - 1)]
    limiting_db = _most(rehearsed.limiting_db, times_s - shift_s, (last - first) / points, _STEP_S)
    after_peaks_db = _peaks(shaped, times_s - shift_s, (last - first) / points) + plan.gain_db
    if plan.ceiling_dbtp is not None:
        after_peaks_db = np.minimum(after_peaks_db, plan.ceiling_dbtp)
    return Curves(
        times_s=times_s,
        before_lufs=_at(_short_term(levels.steps), times_s),
        after_lufs=_at(after, times_s - shift_s),
        gain_db=gain_db,
        before_peaks_db=_peaks(levels.envelope, times_s, (last - first) / points),
        after_peaks_db=after_peaks_db,
        limiting_db=limiting_db,
        pauses=list(_pauses(levels.envelope, shaped, shift_s, plan.gain_db)),
    )


def _after(levels: Levels, plan: LevelPlan) -> tuple[Envelope, Rehearsed]:
    shaped = reshaped(levels.envelope, plan.chain(levels.envelope))
    return shaped, rehearse(shaped, gain_db=plan.gain_db, ceiling_dbtp=plan.ceiling_dbtp)


def _pauses(envelope: Envelope, shaped: Envelope, shift_s: float, gain_db: float) -> Iterator[Pause]:
    found = find_pauses(envelope)
    for start_s, end_s in zip(found.starts_s.tolist(), found.ends_s.tolist(), strict=True):
        after_db = _level_between(shaped, start_s - shift_s, end_s - shift_s)
        yield Pause(
            start_s=start_s,
            end_s=end_s,
            before_db=_level_between(envelope, start_s, end_s),
            after_db=None if after_db is None else after_db + gain_db,
        )


def _level_between(envelope: Envelope, start_s: float, end_s: float) -> float | None:
    """How loud it is between two places, dBFS, leaving out digital silence and what still belongs to words."""
    beside_s = min(_BESIDE_WORDS_S, (end_s - start_s) / 4)
    cells = envelope.power[
        max(0, round((start_s + beside_s) * CELLS_PER_SECOND)) : max(0, round((end_s - beside_s) * CELLS_PER_SECOND))
    ]
    heard = powers(cells[~is_silent(cells)])
    return db_of_power(float(heard.mean())) if len(heard) else None


def _peaks(envelope: Envelope, times_s: np.ndarray, width_s: float) -> np.ndarray:
    peaks = np.where(is_silent(envelope.peak), -np.inf, envelope.peak / 100)
    found = _most(peaks, times_s, width_s, 1 / CELLS_PER_SECOND)
    inside = (times_s >= 0) & (times_s < envelope.duration_s) & np.isfinite(found)
    return np.where(inside, found, np.nan)


def _bar(steps: np.ndarray, peak_dbtp: float | None, noise_dbfs: float | None) -> Bar:
    windows = _short_term(steps)
    loud = windows[windows >= _FAINTEST_LUFS]
    if len(loud):
        gate = 10 * np.log10(np.mean(10 ** (loud / 10))) - _GATE_LU
        low, middle, high = (float(value) for value in np.percentile(loud[loud >= gate], [10, 50, 95]))
        return Bar(low_lufs=low, median_lufs=middle, high_lufs=high, peak_dbtp=peak_dbtp, noise_dbfs=noise_dbfs)
    return Bar(low_lufs=None, median_lufs=None, high_lufs=None, peak_dbtp=peak_dbtp, noise_dbfs=noise_dbfs)


def _short_term(steps: np.ndarray) -> np.ndarray:
    """Loudness around each 100 ms, LUFS: over 3 s, or 400 ms of what is shorter; of the shape of `steps`."""
    width = _SHORT_TERM if len(steps) >= _SHORT_TERM else _MOMENTARY
    found = loudness.over(steps, width)
    if not len(found):
        return np.full(len(steps), -np.inf)
    return np.pad(found, (width // 2, len(steps) - len(found) - width // 2), mode="edge")


def _at(values: np.ndarray, times_s: np.ndarray) -> np.ndarray:
    places = np.floor(times_s / _STEP_S).astype(int)
    inside = (places >= 0) & (places < len(values))
    found = np.full(len(times_s), np.nan)
    found[inside] = values[places[inside]]
    return np.where(np.isfinite(found), found, np.nan)


def _most(values: np.ndarray, times_s: np.ndarray, width_s: float, step_s: float) -> np.ndarray:
    """The highest of what lies around each time, so that no moment of it is lost between two points."""
    if not len(values):
        return np.zeros(len(times_s))
    starts = np.clip(((times_s - width_s / 2) / step_s).astype(int), 0, len(values) - 1)
    ends = np.clip(np.ceil((times_s + width_s / 2) / step_s).astype(int), starts + 1, len(values))
    return np.array([values[start:end].max() for start, end in zip(starts, ends, strict=True)])
