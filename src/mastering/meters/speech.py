"""Where the voice is and how quiet the pauses are, read from the 10 ms envelope."""

from collections.abc import Iterator, Sequence
from math import inf

import numpy as np

from mastering.certain import certain
from mastering.meters.decibels import db_of_power
from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, is_silent, powers

_WINDOW_CELLS = CELLS_PER_SECOND // 2
_CHUNK_CELLS = 60000
_SMOOTHING_CELLS = 3
MOST_MATCH_DB = 24.0
_NOBODY_SPEAKS_DB = 20.0
"""So far below its recording's speech a stretch holds none (common practice, no source)."""
_CLEAR_DB = 18.0
"""A half second this far below the loudest is noise, not speech."""
_CLEAR_OF_GATE_DB = 30.0
"""The same where a gate was at work: what it lets through is mostly voice, however soft."""
_STEADY_DB = 8.0
"""Steady noise varies less than this between half a second and 80 ms of it."""
_LEAST_SPEECH_CELLS = 8
_SCRAPS_CELLS = (35, 25, 18, 12)
_BRIDGED_CELLS = 3
_LEAST_ROOM_CELLS = 10
_UNEVEN = 2.0
"""Steady noise has no tenth of a second that is only half as strong."""
_AROUND_CELLS = 200


def noise_floor(envelope: Envelope) -> float | None:
    """RMS of the quietest half second of room in the pauses, dBFS.

    Digital silence is left out cell by cell, with the cells beside it, which may hold some of it: what is left of one
    pause counts as one stretch. Where no pause has half a second left, the quietest 0.1 s counts. None where nothing is
    left, as between words that a gate has cut free; a word is never taken for room. Steady sound without pauses has its
    quietest half second.
    """
    threshold = threshold_between_words(envelope.weighted)
    if threshold is None:
        return None
    if not threshold:
        steady = _quietest_window(envelope.power)
        return None if steady is None else db_of_power(steady[0])
    half, moment = (_quietest_of(envelope, threshold, window) for window in (_WINDOW_CELLS, _LEAST_ROOM_CELLS))
    if moment is None:
        return None
    if not is_silent(envelope.power).any():
        return db_of_power(moment if half is None else half)
    # Between the gaps that a gate has left, a half second is hardly ever free of the soft end of a word, and what is
    # hardly softer than the words is one of them.
    uneven = half is None or half > _UNEVEN * moment
    found = db_of_power(moment if half is None or uneven else half)
    return None if active_level(envelope.weighted) - found < _CLEAR_DB else found


def _quietest_of(envelope: Envelope, threshold: float, window: int) -> float | None:
    """The mean square of the quietest so many cells of room in one pause; None where there are not so many."""
    quietest = inf
    kept_pauses, kept = np.empty(0, np.int64), np.empty(0)
    for own_pauses, own in _room(envelope, threshold):
        pauses, power = np.concatenate([kept_pauses, own_pauses]), np.concatenate([kept, own])
        kept_pauses, kept = pauses[1 - window :], power[1 - window :]
        if len(power) >= window:
            sums = np.concatenate([[0.0], np.cumsum(power)])
            together = pauses[window - 1 :] == pauses[: len(pauses) - window + 1]
            means = (sums[window:] - sums[:-window])[together] / window
            quietest = min(quietest, float(means.min(initial=inf)))
    return None if quietest == inf else max(quietest, 0.0)


def _room(envelope: Envelope, threshold: float) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """The cells that hold the room alone, part by part: the number of the pause each lies in, and its mean square."""
    passed = 0
    for start in range(0, len(envelope), _CHUNK_CELLS):
        # With some of what lies around, so that a word across the edge is heard as one.
        low, high = max(0, start - _AROUND_CELLS), min(len(envelope), start + _CHUNK_CELLS + _AROUND_CELLS)
        own = slice(start - low, min(start + _CHUNK_CELLS, len(envelope)) - low)
        spoken = spoken_cells(envelope.weighted[low:high], threshold)[own]
        gap = is_silent(envelope.power[low:high])
        beside = gap.copy()
        beside[1:] |= gap[:-1]
        beside[:-1] |= gap[1:]
        room = ~spoken & ~beside[own]
        pauses = np.cumsum(spoken) + passed
        passed = int(pauses[-1])
        yield pauses[room], powers(envelope.power[low:high][own][room])


def quietest_stretch(envelope: Envelope) -> tuple[float, float] | None:
    """Start and end of the stretch that room tone is best made from, seconds; None when all is silence.

    The quietest half second that is not digital silence, or a second and a half where one is no more than 2 dB louder:
    the longer the stretch, the less its repetition is heard.
    """
    short = _quietest_window(envelope.power)
    if short is None:
        return None
    power, start, cells = short
    long = certain(_quietest_window(envelope.power, 3 * _WINDOW_CELLS))
    if long[2] > cells and long[0] <= power * 10**0.2:
        power, start, cells = long
    return start / CELLS_PER_SECOND, (start + cells) / CELLS_PER_SECOND


def head_and_tail(envelope: Envelope) -> tuple[float, float] | None:
    """Time before the first and after the last speech, seconds; None when there is no sound at all.

    Speech is what stands clear of the recording's own noise for at least 80 ms: a third of the way (at least
    6 dB) from the K-weighted noise floor up to the level that the loudest twentieth exceeds. Steady sound
    with no pauses counts as speech throughout.
    """
    threshold = speech_threshold(envelope.weighted)
    if threshold is None:
        return None
    first = last = None
    for start in range(0, len(envelope), _CHUNK_CELLS):
        stretch = envelope.weighted[max(0, start - _LEAST_SPEECH_CELLS) : start + _CHUNK_CELLS]
        spoken = np.flatnonzero(spoken_cells(stretch, threshold))
        if len(spoken):
            offset = max(0, start - _LEAST_SPEECH_CELLS)
            first = spoken[0] + offset if first is None else first
            last = spoken[-1] + offset
    if first is None or last is None:
        return None
    return float(first / CELLS_PER_SECOND), float((len(envelope) - 1 - last) / CELLS_PER_SECOND)


def _quietest_window(levels: np.ndarray, window: int = _WINDOW_CELLS) -> tuple[float, int, int] | None:
    """Mean square, first cell and length of the quietest window."""
    gap = is_silent(levels)
    if gap.all():
        return None
    holed = gap.any()
    if holed:
        # A cell beside a gap may hold the gap's first or last zeros.
        beside = gap.copy()
        beside[1:] |= gap[:-1]
        beside[:-1] |= gap[1:]
        gap = gap if beside.all() else beside
    window = min(window, _longest_run(~gap) if holed else len(levels))
    quietest, first = inf, 0
    for start in range(0, len(levels) - window + 1, _CHUNK_CELLS):
        stop = start + _CHUNK_CELLS + window - 1
        energy = np.concatenate([[0.0], np.cumsum(powers(levels[start:stop]))])
        means = (energy[window:] - energy[:-window]) / window
        if holed:
            holes = np.concatenate([[0], np.cumsum(gap[start:stop])])
            means[holes[window:] != holes[:-window]] = inf
        if len(means) and means.min() < quietest:
            quietest, first = float(means.min()), start + int(means.argmin())
    return max(quietest, 0.0), first, window


def _longest_run(wanted: np.ndarray) -> int:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], wanted, [False]]).astype(np.int8)))
    return int((edges[1::2] - edges[::2]).max())


def speech_threshold(levels: np.ndarray) -> float | None:
    """The K-weighted mean square above which a cell is speech."""
    if is_silent(levels).all():
        return None
    return _threshold(_quietest_window(levels), active_level(levels))


def _threshold(floor: tuple[float, int, int] | None, active_db: float) -> float:
    noise_db = max(db_of_power(floor[0]) if floor and floor[0] else -inf, active_db - 60)
    if active_db - noise_db < 6:
        return 0.0
    return 10 ** ((noise_db + max(6.0, (active_db - noise_db) / 3)) / 10)


def threshold_between_words(levels: np.ndarray) -> float | None:
    """As `speech_threshold`, for recordings too that are cut or gated so tight that no half second is without a word.

    There the quietest half second is hardly quieter than speech, and much louder than its quietest 80 ms; those are
    the floor then.
    """
    silent = is_silent(levels)
    if silent.all():
        return None
    half, active_db = _quietest_window(levels), active_level(levels)
    moment = _quietest_window(levels, _LEAST_SPEECH_CELLS)
    if half is None or moment is None or not moment[0]:
        return _threshold(half, active_db)
    half_db, moment_db = db_of_power(half[0]), db_of_power(moment[0])
    # Where a gate has left gaps, the half second beside them holds the end of a word, however soft it is.
    if not silent.any() and (active_db - half_db >= _CLEAR_DB or half_db - moment_db <= _STEADY_DB):
        return _threshold(half, active_db)
    return 10 ** ((moment_db + max(6.0, (active_db - moment_db) / 3)) / 10)


def room_stretch(envelope: Envelope) -> tuple[float, float] | None:
    """Start and end of a stretch that holds the room alone, seconds; None when there is none of at least 0.12 s.

    The quietest stretch where that is a pause; in a recording cut tight, the longest there is of some shorter ones.
    """
    found = quietest_stretch(envelope)
    if found is None or is_pause(envelope, *found):
        return found
    for cells in _SCRAPS_CELLS:
        _, start, length = certain(_quietest_window(envelope.power, cells))
        scrap = start / CELLS_PER_SECOND, (start + length) / CELLS_PER_SECOND
        if is_pause(envelope, *scrap):
            return scrap
    return None


def is_pause(envelope: Envelope, start_s: float, end_s: float) -> bool:
    """Whether a stretch holds the room alone: no word, and far below the loudest ones, or as steady as noise is where
    no gate was at work.
    """
    threshold = threshold_between_words(envelope.weighted)
    levels = envelope.weighted[round(start_s * CELLS_PER_SECOND) : round(end_s * CELLS_PER_SECOND)]
    if threshold is None or len(levels) < _LEAST_SPEECH_CELLS or spoken_cells(levels, threshold).any():
        return False
    power = powers(levels)
    level_db = db_of_power(float(power.mean()))
    moments = np.convolve(power, np.ones(_LEAST_SPEECH_CELLS) / _LEAST_SPEECH_CELLS, mode="valid")
    steady = level_db - db_of_power(float(moments.min())) <= _STEADY_DB / 2
    clear_db = active_level(envelope.weighted) - level_db
    if is_silent(envelope.power).any():
        return clear_db >= _CLEAR_OF_GATE_DB
    return clear_db >= _CLEAR_DB or (clear_db >= _CLEAR_DB / 3 and steady)


def active_level(levels: np.ndarray) -> float:
    """The 95th percentile of the cells that are not silence, dB.

    From a histogram: a sorted copy of a long recording's levels would be the largest thing in memory.
    """
    counts = np.zeros(65536, np.int64)
    for start in range(0, len(levels), _CHUNK_CELLS):
        counts += np.bincount(levels[start : start + _CHUNK_CELLS].astype(np.int64) + 32768, minlength=65536)
    counts[0] = 0
    return (int(np.searchsorted(np.cumsum(counts), 0.95 * counts.sum())) - 32768) / 100


def spoken_cells(levels: np.ndarray, threshold: float) -> np.ndarray:
    """Which cells are speech: above the threshold for at least 80 ms. Bool, shape (cells,)."""
    power = powers(levels)
    smooth = np.convolve(power, np.ones(_SMOOTHING_CELLS) / _SMOOTHING_CELLS, mode="same")
    # Smoothing spreads an onset by one cell; the cell itself must rise at least halfway.
    active = (smooth > threshold) & (power > threshold / 4)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], active, [False]]).astype(np.int8)))
    starts, stops = edges[::2], edges[1::2]
    spoken = np.zeros(len(levels), bool)
    if not len(starts):
        return spoken
    joined = np.flatnonzero(starts[1:] - stops[:-1] > _BRIDGED_CELLS)
    starts = starts[np.concatenate([[0], joined + 1])]
    stops = stops[np.concatenate([joined, [len(stops) - 1]])]
    for start, stop in zip(starts, stops, strict=True):
        if stop - start >= _LEAST_SPEECH_CELLS:
            spoken[start:stop] = True
    return spoken


def spoken_level(envelope: Envelope, start_s: float, end_s: float) -> float | None:
    """How loud the speech of a stretch is, dB: the mean of its K-weighted cells within 10 dB of their own mean.

    The pauses so fall out, as with the relative gate of ITU-R BS.1770-5. None when the stretch is silent.
    """
    return sounding_level([(envelope, start_s, end_s, 0.0)])


def sounding_level(parts: Sequence[tuple[Envelope, float, float, float]]) -> float | None:
    """As `spoken_level`, of several stretches that follow each other: (envelope, start, end, gain in dB)."""
    cells = [
        powers(envelope.weighted[max(0, round(start_s * CELLS_PER_SECOND)) : max(0, round(end_s * CELLS_PER_SECOND))])
        * 10 ** (gain_db / 10)
        for envelope, start_s, end_s, gain_db in parts
    ]
    power = np.concatenate(cells) if cells else np.empty(0)
    if not power.any():
        return None
    return db_of_power(power[power >= power.mean() * 0.1].mean())


def _whole_level(envelope: Envelope) -> float | None:
    return spoken_level(envelope, 0.0, len(envelope.weighted) / CELLS_PER_SECOND)


def matching_gain(surroundings: list[tuple[Envelope, float, float]], pickup: tuple[Envelope, float, float]) -> float:
    """The gain that brings a stretch to the level of others, dB within ±MOST_MATCH_DB; 0 where either is silent.

    Surroundings in which nobody speaks say nothing of the voice: the whole of their recording counts instead.
    """
    around = [(spoken_level(*each), _whole_level(each[0])) for each in surroundings]
    levels = [level for level, whole in around if level is not None and level > certain(whole) - _NOBODY_SPEAKS_DB]
    levels = levels or [whole for _, whole in around if whole is not None]
    own = spoken_level(*pickup)
    if not levels or own is None:
        return 0.0
    wanted = db_of_power(float(np.mean([10 ** (level / 10) for level in levels])))
    return round(float(np.clip(wanted - own, -MOST_MATCH_DB, MOST_MATCH_DB)), 1)
