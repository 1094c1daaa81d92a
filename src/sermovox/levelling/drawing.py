"""Plans as they are drawn: bars on one scale for all rows, and curves over time."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import inf, isfinite

import numpy as np

from mastering.outlets.curves import Bar, Curves, Pause
from mastering.outlets.demands import OPEN, Demand, range_of
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.rules.levels import INTEGRATED, LOUDNESS_RULES, NOISE_FLOOR, PEAK_RULES

LOWEST_DB, HIGHEST_DB = -78.0, 3.0
TICKS_DB = (-72, -60, -48, -36, -24, -12, 0)
POINTS = 900
_WIDEST_COLUMN = 100 / 6
_LEFT, _RIGHT = 44.0, 992.0
_LOUD, _PEAKS, _FLOORS, _GAIN = (170.0, 16.0), (234.0, 192.0), (302.0, 256.0), (362.0, 324.0)
"""Bottom and top of each lane."""
_LOWEST_PEAK_DB = -24.0


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


def in_columns(rows: Sequence[Mapping]) -> list[dict]:
    """The rows of the table as columns side by side, in the order of the book, percent from the left and the top."""
    width = min(_WIDEST_COLUMN, 100 / max(1, len(rows)))
    up = lambda at: None if at is None else round(100 - at, 2)  # noqa: E731
    columns = []
    for number, row in enumerate(sorted(rows, key=lambda row: row["place"])):
        band, after = row["band"], row["after"] or {}
        asked = (
            None
            if band["start"] is None or band["width"] is None
            else (up(band["start"] + band["width"]), band["width"])
        )
        reach = (up(after["end"]), round(after["end"] - after["start"], 2)) if after else None
        limits = [up(band[name]) for name in ("peak", "noise") if band[name] is not None]
        marks = {name: up(after.get(name)) for name in ("median", "peak", "noise")}
        place = {"x": round(number * width, 3), "width": round(width, 3)}
        columns.append({"row": row, "asked": asked, "reach": reach, "limits": limits} | marks | place)
    return columns


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
    """Everything a picture of one section is made of, as values for an SVG of 1000 by 384: loudness, peaks, the level
    of the pauses and gain, one below the other.
    """
    times = curves.times_s
    width_s = times[1] - times[0] if len(times) > 1 else 1.0
    first, last = float(times[0] - width_s / 2), float(times[-1] + width_s / 2)
    across = lambda seconds: _LEFT + (_RIGHT - _LEFT) * (np.asarray(seconds) - first) / (last - first)  # noqa: E731
    places = across(times)
    heard = np.concatenate([curves.before_lufs, curves.after_lufs])
    heard = heard[np.isfinite(heard)]
    edges = [edge for edge in (band.low_lufs, band.high_lufs) if edge is not None]
    top = np.ceil(max([*edges, heard.max() if len(heard) else -18.0]) + 2)
    bottom = np.floor(max(min([*edges, np.percentile(heard, 5) if len(heard) else -40.0]) - 4, top - 45))
    up = lambda levels: _between(levels, bottom, top, *_LOUD)  # noqa: E731
    return {
        "first_s": round(first, 3),
        "last_s": round(last, 3),
        "left": _LEFT,
        "right": _RIGHT,
        "before": _path(places, up(curves.before_lufs)),
        "after": _path(places, up(curves.after_lufs)),
        "spans": _spans(curves.pauses, across),
        "band": _band(band, up),
        "levels": [
            (int(level), round(float(up(np.array([level]))[0]), 1))
            for level in np.arange(np.ceil(bottom / 6) * 6, top + 1, 6)
        ],
        "times": [(seconds, round(float(across(seconds)), 1)) for seconds in _marks(first, last)],
        "noise": _learned(noise_s, across),
        "peaks": _peaks(curves, band, places),
        "floors": _floors(curves.pauses, band, across),
        "gain": _gain(curves, places),
    }


def _spans(pauses: list[Pause], across) -> list[tuple[float, float]]:
    found = [_stretch((each.start_s, each.end_s), across) for each in pauses]
    return [span for span in found if span[1] > 0.5]


def _peaks(curves: Curves, band: Band, places: np.ndarray) -> dict:
    """The peaks against their ceiling, from -24 dBFS up to what is highest."""
    highest = [float(np.nanmax(each)) for each in (curves.before_peaks_db, curves.after_peaks_db) if not _empty(each)]
    top = max(0.0, *highest) if highest else 0.0
    up = lambda levels: _between(np.asarray(levels), _LOWEST_PEAK_DB, top, *_PEAKS)  # noqa: E731
    return {
        "before": _path(places, up(curves.before_peaks_db)),
        "after": _path(places, up(curves.after_peaks_db)),
        "limit": _limit(band.peak, up),
        "least": (int(_LOWEST_PEAK_DB), _PEAKS[0]),
    }


def _floors(pauses: list[Pause], band: Band, across) -> dict | None:
    """How loud each pause is against the highest noise floor; None where there is no pause to be heard."""
    levels = [level for each in pauses for level in (each.before_db, each.after_db) if level is not None]
    if not levels:
        return None
    known = [*levels, *([] if band.noise is None else [band.noise])]
    top, bottom = float(np.ceil(max(known) + 3)), float(np.floor(min(known) - 3))
    up = lambda level: round(float(_between(np.array([level]), bottom, top, *_FLOORS)[0]), 1)  # noqa: E731
    drawn = []
    for each in pauses:
        x, width = _stretch((each.start_s, each.end_s), across)
        for name, level in (("before", each.before_db), ("after", each.after_db)):
            if level is not None:
                loud = name == "after" and band.noise is not None and level > band.noise
                drawn.append({"x": x, "end": round(x + width, 1), "y": up(level), "called": name, "loud": loud})
    limit = None if band.noise is None else (int(band.noise), up(band.noise))
    return {"drawn": drawn, "limit": limit, "most": (int(top), _FLOORS[1])}


def _gain(curves: Curves, places: np.ndarray) -> dict:
    """Gain, and what the limiter takes hanging from it, on one scale."""
    lowest = curves.gain_db - curves.limiting_db
    most_db = max(6.0, float(np.ceil(max(np.abs(curves.gain_db).max(), np.abs(lowest).max()) / 6) * 6))
    up = lambda levels: _between(np.asarray(levels), -most_db, most_db, *_GAIN)  # noqa: E731
    limited = curves.limiting_db > 0
    taken = ""
    if limited.any():
        back = _path(places[::-1], up(curves.gain_db)[::-1]).replace("M", "L", 1)
        taken = f"{_path(places, up(lowest))}{back}Z"
    return {
        "gain": _path(places, up(curves.gain_db)),
        "limiting": taken,
        "zero": float(up([0.0])[0]),
        "most_db": f"{most_db:.0f}",
        "top": _GAIN[1],
        "bottom": _GAIN[0],
    }


def _empty(levels: np.ndarray) -> bool:
    return not np.isfinite(levels).any()


def _limit(level_db: float | None, up) -> tuple[str, float] | None:
    return None if level_db is None else (f"{level_db:g}", round(float(up([level_db])[0]), 1))


def _between(values: np.ndarray, low: float, high: float, bottom: float, top: float) -> np.ndarray:
    return bottom + (top - bottom) * (np.clip(values, low, high) - low) / (high - low)


def _band(band: Band, up) -> tuple[float, float] | None:
    if band.low_lufs is None or band.high_lufs is None:
        return None
    low, high = up(np.array([band.low_lufs, band.high_lufs]))
    return round(float(high), 1), round(float(low - high), 1)


def _learned(where_s: tuple[float, float] | None, across) -> tuple[float, float] | None:
    return None if where_s is None else _stretch(where_s, across)


def _stretch(where_s: tuple[float, float], across) -> tuple[float, float]:
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
