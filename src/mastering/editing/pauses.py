"""Finding the pauses of a recording, and what may be cut there."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from math import inf

import numpy as np

from mastering.certain import certain
from mastering.editing.markkinds import STRIKE, TONE, Mark
from mastering.editing.pieces import BadCut
from mastering.meters.decibels import db_of_power
from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, is_silent, powers
from mastering.meters.speech import spoken_cells, threshold_between_words
from mastering.said import Said

SHORTEST_S = 0.3
_LEAST_LIFT_DB = 1.6
_SPREADS = 3.0
_BRIDGED_CELLS = 20
"""A sound above the noise belongs to the word when it is no further than this from it: the stop before a final t."""
_CHUNK_CELLS = 60000
_OVERLAP_CELLS = 200
_SMOOTHING_CELLS = 3


@dataclass(frozen=True)
class Pauses:
    """The pauses of a recording, in order.

    `starts_s` and `ends_s` have shape (n,), seconds; `level_db` is the K-weighted level that counts as sound, with
    `noise_db` the level of the noise beneath it, both dB; `silent` tells which are digital silence for the most part.
    """

    starts_s: np.ndarray
    ends_s: np.ndarray
    silent: np.ndarray
    level_db: float
    noise_db: float
    duration_s: float

    def __len__(self) -> int:
        return len(self.starts_s)

    @property
    def lengths_s(self) -> np.ndarray:
        told: np.ndarray = self.ends_s - self.starts_s
        return told

    @property
    def middles_s(self) -> np.ndarray:
        told: np.ndarray = (self.starts_s + self.ends_s) / 2
        return told

    def inner(self) -> np.ndarray:
        """The numbers of those with speech on both sides."""
        return np.flatnonzero((self.starts_s > 0) & (self.ends_s < self.duration_s - 1.5 / CELLS_PER_SECOND))


def find_pauses(envelope: Envelope, *, level_db: float | None = None, shortest_s: float = SHORTEST_S) -> Pauses:
    """Find the pauses between words.

    Speech is found as for the head and tail of a slip; around it, whatever stands out from the noise nearby belongs
    to it still, so that the soft end of a word is not taken for a pause.

    Parameters
    ----------
    level_db
        The K-weighted level (dB, as LUFS of one 10 ms cell without its offset) above which sound is no pause; None
        finds it from the recording's own noise and how much that varies.
    shortest_s
        Pauses shorter than this are left out, seconds.
    """
    threshold = threshold_between_words(envelope.weighted)
    cells = len(envelope)
    duration_s = cells / CELLS_PER_SECOND
    if threshold is None:
        everything = np.array([0.0]), np.array([duration_s]), np.array([True])
        return Pauses(*everything, level_db=-inf, noise_db=-inf, duration_s=duration_s)
    speech = _by_chunks(envelope.weighted, lambda levels: spoken_cells(levels, threshold))
    noise_db, lift_db = _noise(envelope.weighted[~speech & ~is_silent(envelope.power)])
    found = level_db is None
    if found:
        # Where hardly anything is noise, its spread says nothing; what counts as speech is never a pause.
        most_db = db_of_power(threshold) if threshold else -inf
        level_db = min(noise_db + lift_db, most_db) if noise_db > -inf else most_db
    level_db = certain(level_db)
    level = 10 ** (level_db / 10)
    loud = _by_chunks(envelope.weighted, lambda levels: _above(levels, level))
    core = speech & loud
    runs = _runs(loud)
    starts, ends = _kept(*runs, core)
    if found and not len(starts):
        # Nothing stands out: one sound from beginning to end, such as music or a word without a pause.
        starts, ends = np.array([0]), np.array([cells])
    quiet_starts = np.concatenate([[0], ends])
    quiet_ends = np.concatenate([starts, [cells]])
    long = quiet_ends - quiet_starts >= max(1, round(shortest_s * CELLS_PER_SECOND))
    quiet_starts, quiet_ends = quiet_starts[long], quiet_ends[long]
    zeros = np.concatenate([[0], np.cumsum(is_silent(envelope.power))])
    silent = (zeros[quiet_ends] - zeros[quiet_starts]) * 2 > quiet_ends - quiet_starts
    return Pauses(
        quiet_starts / CELLS_PER_SECOND,
        quiet_ends / CELLS_PER_SECOND,
        silent,
        level_db=float(level_db),
        noise_db=float(noise_db),
        duration_s=duration_s,
    )


@dataclass(frozen=True)
class Remaining:
    """The pauses that are heard once marks have struck some of a recording out, each between words that remain.

    Both of shape (n,), in order: how long each sounds, and where in the recording half of it has been heard, seconds.
    """

    lengths_s: np.ndarray
    middles_s: np.ndarray

    def inner(self) -> np.ndarray:
        """The numbers of those with speech on both sides: all of them."""
        return np.arange(len(self.lengths_s))


def remaining(pauses: Pauses, strikes_s: Sequence[tuple[float, float]]) -> Remaining:
    """What strikes leave of the pauses: one inside a strike is none, and a pause, a strike and a pause are one.

    `strikes_s` are starts and ends of what is struck out, in order, seconds.
    """
    ends_s = pauses.duration_s - 1.5 / CELLS_PER_SECOND
    quiet = list(zip(pauses.starts_s.tolist(), pauses.ends_s.tolist(), strict=True))
    edges = sorted({0.0, pauses.duration_s, *(edge for span in [*quiet, *strikes_s] for edge in span)})
    found: list[list[tuple[float, float]]] = [[]]
    begun = False
    at_quiet = at_strike = 0
    for start, end in zip(edges, edges[1:], strict=False):
        middle = (start + end) / 2
        while at_strike < len(strikes_s) and strikes_s[at_strike][1] <= start:
            at_strike += 1
        while at_quiet < len(quiet) and quiet[at_quiet][1] <= start:
            at_quiet += 1
        if at_strike < len(strikes_s) and strikes_s[at_strike][0] <= middle:
            continue
        if at_quiet < len(quiet) and quiet[at_quiet][0] <= middle:
            # Quiet before the first word that remains, and after the last, lies between no two of them.
            if begun:
                found[-1].append((start, end))
        elif end - start > 0:
            begun = True
            if found[-1]:
                found.append([])
    inner = [parts for parts in found[:-1] if parts and parts[0][0] < ends_s]
    lengths_s = np.array([sum(end - start for start, end in parts) for parts in inner])
    return Remaining(lengths_s, np.array([_half_way(parts) for parts in inner]))


def _half_way(parts: Sequence[tuple[float, float]]) -> float:
    """Where half of all parts has been heard, seconds."""
    left_s = sum(end - start for start, end in parts) / 2
    for start, end in parts:
        if left_s <= end - start:
            return start + left_s
        left_s -= end - start
    return parts[-1][1]


def longer_than(pauses: Pauses | Remaining, least_s: float) -> np.ndarray:
    """Where to cut when sections begin after pauses of at least this length: the middles, seconds."""
    inner = pauses.inner()
    told: np.ndarray = pauses.middles_s[inner[pauses.lengths_s[inner] >= least_s]]
    return told


def longest(pauses: Pauses | Remaining, sections: int) -> np.ndarray:
    """Where to cut when so many sections are expected: the middles of the longest pauses, in order, seconds.

    Raises BadCut when there are fewer pauses than cuts.
    """
    inner = pauses.inner()
    if len(inner) < sections - 1:
        raise BadCut(
            Said("there-only-pauses-between-words", count=len(inner), sections=sections, sections_2=sections - 1)
        )
    chosen = inner[np.argsort(-pauses.lengths_s[inner], kind="stable")[: max(0, sections - 1)]]
    told: np.ndarray = pauses.middles_s[np.sort(chosen)]
    return told


def shortened(pauses: Pauses, sample_rate_hz: int, *, longer_than_s: float, to_s: float) -> list[Mark]:
    """Marks that shorten dead air: of each pause longer than this, so much stays.

    What stays are the pause's own first and last moments, so the room goes on sounding; where they are digital
    silence, room tone is put there.

    Raises BadCut when `to_s` is not shorter than `longer_than_s`.
    """
    if not 0 <= to_s < longer_than_s:
        raise BadCut(Said("what-left-pause-shorter-than"))
    marks = []
    for at in np.flatnonzero(pauses.lengths_s > longer_than_s):
        start, end = (round(float(edge) * sample_rate_hz) for edge in (pauses.starts_s[at], pauses.ends_s[at]))
        half = round(to_s / 2 * sample_rate_hz)
        # At the very ends of a recording nothing is spoken on one side: what stays is beside the words.
        first = (
            start if pauses.starts_s[at] == 0 else start + (2 if at == len(pauses) - 1 and _last(pauses) else 1) * half
        )
        last = end - (2 if pauses.starts_s[at] == 0 else 1) * half
        if at == len(pauses) - 1 and _last(pauses):
            last = end
        marks.append(Mark(id=0, kind=STRIKE, start_sample=first, end_sample=last))
        if pauses.silent[at]:
            marks += [
                Mark(id=0, kind=TONE, start_sample=a, end_sample=b) for a, b in ((start, first), (last, end)) if b > a
            ]
    return marks


def stretches(cuts_s: Sequence[float], duration_s: float) -> list[tuple[float, float]]:
    """The stretches between cuts, from the start of the recording to its end, seconds."""
    edges = [0.0, *sorted(cuts_s), duration_s]
    return list(zip(edges, edges[1:], strict=False))


def _last(pauses: Pauses) -> bool:
    """Whether the last pause runs to the end of the recording."""
    return bool(pauses.ends_s[-1] >= pauses.duration_s)


def _noise(levels: np.ndarray) -> tuple[float, float]:
    """The level of the noise between words, and how far above it sound has to be: dB, dB."""
    if not len(levels):
        return -inf, 0.0
    low, middle = (np.percentile(levels, share) / 100 for share in (16, 50))
    # The lower side alone: on the upper one lie breaths and the ends of words. Smoothing narrows it.
    spread = (middle - low) / np.sqrt(_SMOOTHING_CELLS)
    return float(middle), float(max(_LEAST_LIFT_DB, _SPREADS * spread))


def _above(levels: np.ndarray, level: float) -> np.ndarray:
    power = powers(levels)
    smooth = np.convolve(power, np.ones(_SMOOTHING_CELLS) / _SMOOTHING_CELLS, mode="same")
    return (smooth > level) & (power > level * 10 ** (-0.06))


def _by_chunks(levels: np.ndarray, tell: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    """A bool for each cell, worked out in chunks that overlap so that their edges do not show."""
    told = np.zeros(len(levels), bool)
    for start in range(0, len(levels), _CHUNK_CELLS):
        before = min(start, _OVERLAP_CELLS)
        part = tell(levels[start - before : start + _CHUNK_CELLS + _OVERLAP_CELLS])
        told[start : start + _CHUNK_CELLS] = part[before : before + _CHUNK_CELLS]
    return told


def _runs(wanted: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], wanted, [False]]).astype(np.int8)))
    return edges[::2], edges[1::2]


def _kept(starts: np.ndarray, ends: np.ndarray, core: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Join runs that are close; keep those that hold speech."""
    if not len(starts):
        return starts, ends
    first = np.concatenate([[True], starts[1:] - ends[:-1] > _BRIDGED_CELLS])
    starts, ends = starts[first], ends[np.append(first[1:], True)]
    spoken = np.concatenate([[0], np.cumsum(core)])
    held = spoken[ends] > spoken[starts]
    return starts[held], ends[held]
