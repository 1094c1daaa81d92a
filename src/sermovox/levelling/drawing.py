"""Plans as they are drawn: bars on one scale for all rows, and curves over time."""

from dataclasses import dataclass
from math import inf, isfinite

import numpy as np

from mastering.outlets.curves import Bar, Curves
from mastering.outlets.demands import OPEN, Demand, range_of
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.rules.levels import INTEGRATED, LOUDNESS_RULES, NOISE_FLOOR, PEAK_RULES

LOWEST_DB, HIGHEST_DB = -78.0, 3.0
TICKS_DB = (-72, -60, -48, -36, -24, -12, 0)
POINTS = 900
_LEFT, _RIGHT = 44.0, 992.0
_LOUD_TOP, _LOUD_BOTTOM = 14.0, 196.0
_GAIN_TOP, _GAIN_BOTTOM = 214.0, 262.0
_LIMIT_TOP, _LIMIT_BOTTOM = 274.0, 304.0


def place(level_db: float) -> float:
    """Where a level lies on the scale of the bars, percent from the left."""
    inside = min(max(level_db, LOWEST_DB), HIGHEST_DB)
    return round(100 * (inside - LOWEST_DB) / (HIGHEST_DB - LOWEST_DB), 2)


def _place(level_db: float | None) -> float | None:
    return None if level_db is None else place(level_db)


def ticks() -> list[tuple[int, float]]:
    return [(level, place(level)) for level in TICKS_DB]


def drawn_bar(bar: Bar | None) -> dict[str, float | None] | None:
    """A bar in percent: where it starts, how wide it is, its median, peak and noise floor."""
    if bar is None or bar.low_lufs is None or bar.high_lufs is None:
        return None
    start = place(bar.low_lufs)
    return {
        "start": start,
        "end": max(start + 0.4, place(bar.high_lufs)),
        "width": max(0.4, round(place(bar.high_lufs) - start, 2)),
        "median": _place(bar.median_lufs),
        "peak": _place(bar.peak_dbtp),
        "noise": _place(bar.noise_dbfs),
    }


@dataclass(frozen=True)
class Band:
    """What an outlet asks of a section, on the scale of loudness: levels in dB, None where it asks for nothing."""

    low_lufs: float | None
    high_lufs: float | None
    peak: float | None
    noise: float | None

    def drawn(self) -> dict[str, float | None]:
        start, end = _place(self.low_lufs), _place(self.high_lufs)
        width = None if start is None or end is None else round(end - start, 2)
        return {"start": start, "width": width, "peak": _place(self.peak), "noise": _place(self.noise)}


def band_of(demands: dict[str, Demand], plan: LevelPlan | None) -> Band:
    """The band of an outlet. A range of RMS is put where it lies for this section's voice on the scale of loudness."""
    told = plan.predicted if plan else {}
    band = OPEN
    for name in LOUDNESS_RULES:
        if (asked := range_of(demands, name)) and (name == INTEGRATED or INTEGRATED in told):
            band = asked if name == INTEGRATED else asked.moved(told[INTEGRATED] - told[name])
            break
    peaks = [asked.high for name in PEAK_RULES if (asked := range_of(demands, name))]
    noise = range_of(demands, NOISE_FLOOR) or OPEN
    return Band(*(_known(edge) for edge in (band.low, band.high, min(peaks, default=inf), noise.high)))


def _known(edge: float) -> float | None:
    return edge if isfinite(edge) else None


def drawn_curves(curves: Curves, band: Band, noise_s: tuple[float, float] | None) -> dict:
    """Everything a picture of one section is made of, as values for an SVG of 1000 by 330."""
    times = curves.times_s
    width_s = times[1] - times[0] if len(times) > 1 else 1.0
    first, last = float(times[0] - width_s / 2), float(times[-1] + width_s / 2)
    across = lambda seconds: _LEFT + (_RIGHT - _LEFT) * (np.asarray(seconds) - first) / (last - first)  # noqa: E731
    heard = np.concatenate([curves.before_lufs, curves.after_lufs])
    heard = heard[np.isfinite(heard)]
    edges = [edge for edge in (band.low_lufs, band.high_lufs) if edge is not None]
    top = np.ceil(max([*edges, heard.max() if len(heard) else -18.0]) + 2)
    bottom = np.floor(max(min([*edges, np.percentile(heard, 5) if len(heard) else -40.0]) - 4, top - 45))
    up = lambda levels: _between(levels, bottom, top, _LOUD_BOTTOM, _LOUD_TOP)  # noqa: E731
    most_db = max(6.0, float(np.ceil(np.abs(curves.gain_db).max() / 6) * 6))
    limit_db = max(6.0, float(np.ceil(curves.limiting_db.max() / 6) * 6))
    gain = _between(curves.gain_db, -most_db, most_db, _GAIN_BOTTOM, _GAIN_TOP)
    limited = _between(curves.limiting_db, 0.0, limit_db, _LIMIT_TOP, _LIMIT_BOTTOM)
    places = across(times)
    xs = [(float(across(start)), float(across(end) - across(start))) for start, end in curves.pauses_s]
    return {
        "first_s": round(first, 3),
        "last_s": round(last, 3),
        "left": _LEFT,
        "right": _RIGHT,
        "before": _path(places, up(curves.before_lufs)),
        "after": _path(places, up(curves.after_lufs)),
        "gain": _path(places, gain),
        "zero": float(_between(np.array([0.0]), -most_db, most_db, _GAIN_BOTTOM, _GAIN_TOP)[0]),
        "limiting": f"M{_LEFT} {_LIMIT_TOP}" + _path(places, limited).replace("M", "L", 1) + f"L{_RIGHT} {_LIMIT_TOP}Z",
        "most_db": f"{most_db:.0f}",
        "limit_db": f"{limit_db:.0f}",
        "pauses": [(round(x, 1), round(w, 1)) for x, w in xs if w > 0.5],
        "band": _band(band, up),
        "levels": [
            (int(level), round(float(up(np.array([level]))[0]), 1))
            for level in np.arange(np.ceil(bottom / 6) * 6, top + 1, 6)
        ],
        "times": [(seconds, round(float(across(seconds)), 1)) for seconds in _marks(first, last)],
        "noise": _stretch(noise_s, across),
    }


def _between(values: np.ndarray, low: float, high: float, bottom: float, top: float) -> np.ndarray:
    return bottom + (top - bottom) * (np.clip(values, low, high) - low) / (high - low)


def _band(band: Band, up) -> tuple[float, float] | None:
    if band.low_lufs is None or band.high_lufs is None:
        return None
    low, high = up(np.array([band.low_lufs, band.high_lufs]))
    return round(float(high), 1), round(float(low - high), 1)


def _stretch(where_s: tuple[float, float] | None, across) -> tuple[float, float] | None:
    if where_s is None:
        return None
    start, end = across(where_s)
    return round(float(start), 1), round(max(2.0, float(end - start)), 1)


def _path(xs: np.ndarray, ys: np.ndarray) -> str:
    """An SVG path that breaks off where there is nothing."""
    parts, pen = [], "M"
    for x, y in zip(xs, ys, strict=True):
        if not np.isfinite(y):
            pen = "M"
            continue
        parts.append(f"{pen}{x:.1f} {y:.1f}")
        pen = "L"
    return "".join(parts)


def _marks(first: float, last: float) -> list[float]:
    """Whole times for the axis, about eight of them."""
    step = next(s for s in (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200) if (last - first) / s <= 9)
    return [float(at) for at in np.arange(np.ceil(first / step) * step, last, step)]
