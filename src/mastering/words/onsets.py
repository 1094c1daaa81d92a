"""Where somebody speaks, to the row: from the pauses, and closer at their edges from the bands of the voice.

A soft ending lies below the noise of a whole room, but not below that in its own bands.
"""

from dataclasses import dataclass

import numpy as np

from mastering.editing.pauses import Pauses, find_pauses
from mastering.meters.envelope import CELLS_PER_SECOND, Envelope
from mastering.meters.speech import active_level
from mastering.words.features import ROWS_PER_SECOND

SHORTEST_PAUSE_S = 0.12
_QUIET_ABOVE_DB = 2.0
_VARYING_DB, _NEAR_DB, _BENEATH_DB = 4.0, 26.0, 17.0
"""What lies beneath the voice varies by more than the first, as music and other speakers do, and less than the second
below the loudest speech: then only what is less than the third below that is the voice (found with prompts of three
readers over music and over each other, 20 dB below)."""
_INNER_S = 0.1
"""So much of each pause may still belong to a word."""
_WIDENED_ROWS = 25
_BRIDGED_ROWS = 2
_LEAST_QUIET_ROWS = 10
_UNUSUAL = 2.0
_GROUPS = 4
_SMOOTHED_ROWS = 5
_CLEAR_DB, _NOISY_DB, _HIDDEN_S = 18.0, 4.0, 0.1
"""Where the voice stands less above the room than the first, its endings go on unheard; at the second, so long (found
with prompts of three readers under white noise)."""
_CELLS = CELLS_PER_SECOND // ROWS_PER_SECOND


@dataclass(frozen=True)
class Speech:
    """How far each row is speech, 0 to 1, shape (rows,), which rows are quiet if only for a moment, where pauses begin
    and end, seconds, shape (n,) each, and how long an ending goes on below the noise of the room, seconds."""

    share: np.ndarray
    quiet: np.ndarray
    starts_s: np.ndarray
    ends_s: np.ndarray
    hidden_s: float

    def onset(self, at_s: float, within_s: float) -> float:
        """The end of the pause nearest to a place; the place itself where none is near."""
        return _nearest(self.ends_s, at_s, within_s)

    def offset(self, at_s: float, within_s: float) -> float:
        """The start of the pause nearest to a place; the place itself where none is near."""
        return _nearest(self.starts_s, at_s, within_s)

    def ended(self, at_s: float, within_s: float) -> float:
        """As `offset`, with what of the ending is not heard, as far as the pause reaches."""
        start_s = self.offset(at_s, within_s)
        pause = int(np.searchsorted(self.starts_s, start_s))
        if pause == len(self.starts_s) or self.starts_s[pause] != start_s:
            return start_s
        return start_s + min(self.hidden_s, (float(self.ends_s[pause]) - start_s) / 2)


def pauses_of_voice(envelope: Envelope) -> Pauses:
    """Where nobody speaks. A steady noise is told by its level; music or somebody else beneath the voice by how far it
    lies below it.
    """
    found = find_pauses(envelope, shortest_s=SHORTEST_PAUSE_S)
    loudest_db = active_level(envelope.weighted)
    if found.level_db - found.noise_db > _VARYING_DB and loudest_db - found.level_db < _NEAR_DB:
        return find_pauses(envelope, shortest_s=SHORTEST_PAUSE_S, level_db=loudest_db - _BENEATH_DB)
    return found


def quiet_rows(envelope: Envelope, pauses: Pauses, rows: int) -> np.ndarray:
    """Which rows hold no more than the room, if only for a moment: that is no pause yet where a sound is near. Bool,
    shape (rows,); none where something else than noise lies beneath the voice.
    """
    told = np.zeros(rows, bool)
    if pauses.level_db - pauses.noise_db <= _VARYING_DB:
        cells = envelope.weighted[: rows * _CELLS]
        whole = len(cells) // _CELLS
        highest = cells[: whole * _CELLS].reshape(whole, _CELLS).max(axis=1)
        told[:whole] = highest < 100 * (pauses.level_db + _QUIET_ABOVE_DB)
    return told


class Room:
    """The noise of the pauses in each band, learned from rows of powers, shape (rows, BANDS)."""

    def __init__(self, given: np.ndarray, share: np.ndarray):
        quiet = np.flatnonzero(_inside(share < 0.5, round(_INNER_S * ROWS_PER_SECOND)))
        if len(quiet) < _LEAST_QUIET_ROWS:
            quiet = np.argsort(given.sum(axis=1))[: max(1, len(given) // 20)]
        self.powers = given[quiet].mean(axis=0)
        logs = self._smooth(np.log(given + 1e-12))
        self._middle, self._spread = logs[quiet].mean(axis=0), np.maximum(logs[quiet].std(axis=0), 0.1)
        stands_out = self._stands_out(logs)[quiet]
        self._least = float(stands_out.mean() + _UNUSUAL * stands_out.std())

    def louder(self, given: np.ndarray) -> np.ndarray:
        """Which rows stand out of it, bool, shape (rows,)."""
        told: np.ndarray = self._stands_out(self._smooth(np.log(given + 1e-12))) > self._least
        return told

    def _stands_out(self, logs: np.ndarray) -> np.ndarray:
        apart = (logs - self._middle) / self._spread
        told: np.ndarray = np.max([part.mean(axis=1) for part in np.array_split(apart, _GROUPS, axis=1)], axis=0)
        return told

    @staticmethod
    def _smooth(logs: np.ndarray) -> np.ndarray:
        beside = _SMOOTHED_ROWS // 2
        wider = np.pad(logs, ((beside, beside), (0, 0)), mode="edge")
        parts = [wider[at : at + len(logs)] for at in range(_SMOOTHED_ROWS)]
        told: np.ndarray = np.mean(parts, axis=0)
        return told


def share_of(pauses: Pauses, rows: int) -> np.ndarray:
    """How far each row is speech as the pauses tell it, 0 to 1, shape (rows,)."""
    cells = np.ones(rows * _CELLS, np.float32)
    for start, end in zip(pauses.starts_s, pauses.ends_s, strict=True):
        cells[round(start * CELLS_PER_SECOND) : round(end * CELLS_PER_SECOND)] = 0
    told: np.ndarray = cells.reshape(rows, _CELLS).mean(axis=1)
    return told


def speech_of(
    pauses: Pauses, share: np.ndarray, louder: np.ndarray, *, quiet: np.ndarray, above_room_db: float
) -> Speech:
    """Widen what is spoken by the rows beside it that stand out of the room; the voice does by `above_room_db`."""
    wider = share.copy()
    starts, ends = pauses.starts_s.copy(), pauses.ends_s.copy()
    hidden = float(np.clip((_CLEAR_DB - above_room_db) / (_CLEAR_DB - _NOISY_DB), 0, 1))
    # In a quiet room the pauses are right, and what stands out of them is breath.
    for at, (start, end) in enumerate(zip(pauses.starts_s, pauses.ends_s, strict=True) if hidden else ()):
        first, stop = round(start * ROWS_PER_SECOND), min(len(share), round(end * ROWS_PER_SECOND))
        most = min(_WIDENED_ROWS, (stop - first) // 3)
        after = _reach(louder[first : first + most]) if start > 0 else 0
        before = _reach(louder[stop - most : stop][::-1]) if stop < len(share) else 0
        if after:
            wider[max(0, first - 1) : first + after] = 1
            starts[at] = max(start, (first + after) / ROWS_PER_SECOND)
        if before:
            wider[stop - before : stop + 1] = 1
            ends[at] = min(end, (stop - before) / ROWS_PER_SECOND)
    # What is soft lies as low as a noisy room.
    return Speech(wider, quiet & (hidden == 0), starts, ends, _HIDDEN_S * hidden)


def _reach(louder: np.ndarray) -> int:
    """How many rows belong on: as long as they stand out, with short gaps."""
    reach = gap = 0
    for at, loud in enumerate(louder):
        gap = 0 if loud else gap + 1
        if gap > _BRIDGED_ROWS:
            break
        if loud:
            reach = at + 1
    return reach


def _inside(rows: np.ndarray, far: int) -> np.ndarray:
    """Which rows lie at least so far inside a run of True."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], rows, [False]]).astype(np.int8)))
    told = np.zeros(len(rows), bool)
    for start, end in zip(edges[::2], edges[1::2], strict=True):
        told[start + far : max(start + far, end - far)] = True
    return told


def _nearest(places_s: np.ndarray, at_s: float, within_s: float) -> float:
    at = int(np.searchsorted(places_s, at_s))
    near = [float(place) for place in places_s[max(0, at - 1) : at + 1] if abs(place - at_s) <= within_s]
    return min(near, key=lambda place: abs(place - at_s), default=at_s)
