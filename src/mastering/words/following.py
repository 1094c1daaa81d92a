"""A recording followed along its script: the cheapest way through the states, which may go back to a line or leave it.

Dynamic programming, row by row (Viterbi; Rabiner, A Tutorial on Hidden Markov Models, 1989, III B). Costs are mean
squared differences of features, about 1 for a sound and its template once a voice is known. Besides going on, a way
may, where nothing is spoken, begin a line again, leave lines out, or go elsewhere: to what is in no script. Only a
window of the script about the best place is looked at, and what lies some time back is settled: of each row two numbers
are kept.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from mastering.words.ears import Ear
from mastering.words.features import ROWS_PER_SECOND, let_go
from mastering.words.states import States

_SKIP = 1.0
_STAY = 0.1
_SILENT_SPEECH = 1.5
_SPOKEN_REST = 4.0
_NO_REST = 4.0
"""Beginning a line without a rest before it."""
_ELSEWHERE = 5.0
_SILENT_ELSEWHERE = 0.02
_BACK, _BACK_EACH = 6.0, 1.0
_AHEAD, _AHEAD_EACH = 12.0, 4.0
_WITHIN = 4.0
"""Going to a phrase inside a line rather than to its start."""
_LINES_AWAY = 6
_FAR = 40.0
"""Going further away than that, within the window."""
_BROKEN_OFF = 3.0
"""Leaving a line in the middle of a word."""
_ANYWHERE = 8.0
_QUIET = 0.3
_CHUNK_ROWS = 50
_WINDOW_BACK, _WINDOW_AHEAD = 3000, 2500
_SEEN_WHOLE = 12_000
_MOVED_BY = 400
_SETTLED_ROWS, _KEPT_ROWS = 1000, 3000
_LOST_ROWS = 20 * ROWS_PER_SECOND
_SOUGHT_ROWS = 10 * ROWS_PER_SECOND
_SOUGHT_EVERY = 2
_SOUGHT_STATES = 200_000
_FURTHEST_STEP = 4
_AGREES_WITHIN = 600
"""States: what a hasty machine says in the time a slow reader takes."""
_FOUND_SHARE = 0.8
"""Of the margin: what a place that is sought has to cost less than."""


@dataclass(frozen=True)
class Heard:
    """What a recording is followed by.

    `features`, shape (rows, FEATURES); `spoken`, how far each row is speech, 0 to 1, shape (rows,); `least`, what each
    row costs at the best of all sounds, shape (rows,).
    """

    features: np.ndarray
    spoken: np.ndarray
    least: np.ndarray


@dataclass(frozen=True)
class Way:
    """The way that was found, shape (rows,) each: the state, -1 where it lies outside the script; and by how much it
    costs more there than the best of all sounds does, 0 at rests."""

    states: np.ndarray
    excess: np.ndarray


@dataclass
class _Window:
    """The states that are looked at, from `low` up to `high`, and what of them the rows ask for again and again."""

    low: int
    high: int
    rests: np.ndarray
    """Places of rests in the window."""
    first_rest: int
    groups: np.ndarray
    """At which of the rests each line begins, and at which of the states."""
    lines: np.ndarray
    arrivals: np.ndarray
    """Places to jump to, and beside it the group of each and what that costs more."""
    arrival_groups: np.ndarray
    arrival_costs: np.ndarray
    costs: np.ndarray
    """What is multiplied by rows for what each costs at each state."""

    def best_of(self, line: int, cost: np.ndarray) -> int:
        """The place to leave a line from: one of its rests, or a sound where that costs less by far."""
        own = cost[self.lines[line] : self.lines[line + 1] if line + 1 < len(self.lines) else None]
        rests = self.rests[self.groups[line] : self.groups[line + 1] if line + 1 < len(self.groups) else None]
        rest = int(rests[cost[rests].argmin()])
        return rest if cost[rest] <= own.min() + _BROKEN_OFF else int(self.lines[line] + own.argmin())


@dataclass
class _Chunk:
    """Where each state of a window came from, in some rows: by a step, by skipping one, from elsewhere, by a jump.

    `stepped` and `skipped` have shape (rows, states); `entered` and `returned`, of what is elsewhere, (rows, rests);
    `jumps` has for a row the places jumped to and from where.
    """

    row: int
    window: _Window
    stepped: np.ndarray
    skipped: np.ndarray
    entered: np.ndarray
    returned: np.ndarray
    jumps: dict[int, dict[int, int]]

    @classmethod
    def of(cls, row: int, rows: int, window: _Window) -> "_Chunk":
        states, rests = window.high - window.low, len(window.rests)
        of_states, of_rests = (np.zeros((2, rows, number), bool) for number in (states, rests))
        return cls(row, window, of_states[0], of_states[1], of_rests[0], of_rests[1], {})


class Follower:
    """Follows one recording.

    Parameters
    ----------
    ear
        How the voice was listened to.
    phrases
        Rests inside lines after which a reader may begin again.
    """

    def __init__(self, states: States, ear: Ear, phrases: np.ndarray, heard: Heard):
        self._states, self._ear, self._heard = states, ear, heard
        speech = states.speech
        self._rests = np.flatnonzero(~speech)
        skip = np.full(len(states), np.float32(_SKIP))
        skip[2:][~speech[1:-1]] = 0
        skip[states.line_starts[:-1] + 1] = _NO_REST
        skip[~speech] = np.inf
        self._skip = skip
        self._stay = np.where(speech, np.float32(_STAY), np.float32(0))
        self._arrivals = np.sort(np.concatenate([states.line_starts, phrases]))
        self._way = np.full(len(heard.features), -1, np.int32)

    @property
    def sees_all(self) -> bool:
        """Whether the whole script is looked at, wherever the reader is."""
        return len(self._states) <= _SEEN_WHOLE

    def _bounds(self, place: int) -> tuple[int, int]:
        """The states to look at about a place: a short script is always looked at as a whole."""
        if self.sees_all:
            return 0, len(self._states)
        return max(0, place - _WINDOW_BACK), min(len(self._states), place + _WINDOW_AHEAD)

    def follow(self, *, place: int = 0, settled: Callable[[int], None] = lambda rows: None) -> Way:
        """Follow it all, looking about state `place` at first; `settled` is told how many rows stay as they are."""
        row, rows, patience = 0, len(self._heard.features), _LOST_ROWS
        while row < rows:
            stopped, lost_at, left = self._part(row, place, patience, settled)
            if stopped == rows:
                break
            found = self._found(lost_at) if lost_at > row or place != left else None
            if found is None:
                row, patience = stopped, 2 * patience if place == left else _LOST_ROWS
                place = left
            else:
                row, place, patience = lost_at, found, _LOST_ROWS
        return self.way(rows)

    def way(self, rows: int) -> Way:
        """The way through the first rows."""
        return Way(self._way[:rows], self._excess(rows))

    def _found(self, row: int) -> int | None:
        """Where what is spoken from a row on stands, where two stretches of it agree; None otherwise."""
        most = _FOUND_SHARE * self._ear.margin
        first = self.find(row, most=most)
        spoken = row + np.flatnonzero(self._heard.spoken[row : row + 6 * _SOUGHT_ROWS] > 1 - _QUIET)
        if first is None or len(spoken) <= _SOUGHT_ROWS:
            return first
        second = self.find(int(spoken[_SOUGHT_ROWS]), most=most)
        return first if second is not None and 0 < second - first < _AGREES_WITHIN else None

    def find(self, row: int, *, most: float = np.inf) -> int | None:
        """Where in the whole script what is spoken from a row on stands: a state, None where that is nowhere.

        Nowhere is what costs `most` or more than the best of all sounds.
        """
        heard = self._heard
        spoken = row + np.flatnonzero(heard.spoken[row : row + 3 * _SOUGHT_ROWS] > 1 - _QUIET)
        rows = spoken[:_SOUGHT_ROWS:_SOUGHT_EVERY]
        if len(rows) < _SOUGHT_ROWS // _SOUGHT_EVERY // 2 or not self._states.speech.any():
            return None
        least = np.float32(np.mean(heard.least[rows]))
        found = [self._found_between(rows, low) for low in range(0, len(self._states), _SOUGHT_STATES)]
        cost, state = min(found)
        return state if cost / len(rows) - least < most else None

    def _found_between(self, rows: np.ndarray, low: int) -> tuple[float, int]:
        """The least that rows cost along some states from `low` on, and the state where that begins."""
        speech = low + np.flatnonzero(self._states.speech[low : low + _SOUGHT_STATES + _AGREES_WITHIN])
        if len(speech) < _FURTHEST_STEP:
            return float("inf"), low
        templates = self._ear.templates(self._states, speech)
        squares = (templates * templates).mean(axis=1)
        cost = np.zeros(len(speech), np.float32)
        begun = np.arange(len(speech), dtype=np.int32)
        for at in rows:
            here = self._heard.features[at].astype(np.float32)
            came = begun.copy()
            best = cost + np.float32(_STAY)
            for step in range(1, _FURTHEST_STEP):
                moved = cost[:-step] + np.float32((step - 1) * _SKIP)
                better = moved < best[step:]
                best[step:][better] = moved[better]
                came[step:][better] = begun[:-step][better]
            apart = squares - templates @ (here * np.float32(2 / len(here)))
            cost, begun = best + apart + np.float32((here * here).mean()), came
        end = int(cost.argmin())
        return float(cost[end]), int(speech[begun[end]])

    def _part(self, row: int, place: int, patience: int, settled: Callable[[int], None]) -> tuple[int, int, int]:
        """Follow from a row on until the end or until lost: the row it stopped at, since when it was lost, and the
        state it was at last."""
        heard = self._heard
        window = self._window(place)
        cost = np.full(window.high - window.low, np.inf, np.float32)
        starts = self._states.line_starts
        starts = starts[(starts >= window.low) & (starts < window.high)]
        cost[starts - window.low] = _ANYWHERE
        cost[max(window.low, starts[np.searchsorted(starts, place, side="right") - 1]) - window.low] = 0
        elsewhere = np.where(np.isfinite(cost[window.rests]), cost[window.rests], np.float32(np.inf))
        chunks: list[_Chunk] = []
        lost = 0
        rows = len(heard.features)
        while row < rows:
            stop = min(rows, row + _CHUNK_ROWS)
            chunk, cost, elsewhere = self._chunk(row, stop, window, cost, elsewhere)
            chunks.append(chunk)
            row = stop
            away = elsewhere.min(initial=np.inf) < cost.min()
            lost = lost + int((heard.spoken[chunk.row : stop] > 1 - _QUIET).sum()) if away else 0
            if lost >= patience:
                self._settle(chunks, cost, elsewhere, row)
                inside = np.flatnonzero(self._way[chunks[0].row : row] >= 0)
                if not len(inside):
                    return row, chunks[0].row, place
                last = chunks[0].row + int(inside[-1])
                return row, last + 1, int(self._way[last])
            if row - chunks[0].row >= _SETTLED_ROWS + _KEPT_ROWS:
                self._settle(chunks, cost, elsewhere, row)
                del chunks[: _SETTLED_ROWS // _CHUNK_ROWS]
                let_go(heard.features)
                settled(chunks[0].row)
            window, cost, elsewhere = self._moved(window, cost, elsewhere)
        if chunks:
            # To end elsewhere costs what leaving a line out costs in the middle, where the way has to come back.
            self._settle(chunks, cost, elsewhere + np.float32(_ELSEWHERE + _AHEAD), row)
        return row, row, place

    def _window(self, place: int) -> _Window:
        low, high = self._bounds(place)
        first, after = np.searchsorted(self._rests, (low, high))
        rests = self._rests[first:after]
        lines = self._states.line[rests]
        groups = np.flatnonzero(np.concatenate([[True], lines[1:] != lines[:-1]])) if len(rests) else np.zeros(0, int)
        arrivals = self._arrivals[slice(*np.searchsorted(self._arrivals, (low, high)))]
        arrival_groups = np.searchsorted(rests[groups], arrivals, side="right") - 1
        within = np.where(np.isin(arrivals, self._states.line_starts), np.float32(0), np.float32(_WITHIN))
        starts = rests[groups] - low
        starts[0] = 0
        costs = self._costs(low, high)
        return _Window(
            low, high, rests - low, int(first), groups, starts, arrivals - low, arrival_groups, within, costs
        )

    def _moved(
        self, window: _Window, cost: np.ndarray, elsewhere: np.ndarray
    ) -> tuple[_Window, np.ndarray, np.ndarray]:
        """The window about the best place now; costs of places that were not looked at are infinite."""
        least = min(cost.min(), elsewhere.min(initial=np.inf))
        cost, elsewhere = cost - least, elsewhere - least
        best = window.low + int(window.rests[elsewhere.argmin()] if elsewhere.min() < cost.min() else cost.argmin())
        low, high = self._bounds(best)
        if abs(low - window.low) < _MOVED_BY and abs(high - window.high) < _MOVED_BY:
            return window, cost, elsewhere
        new = self._window(best)
        moved = np.full(new.high - new.low, np.inf, np.float32)
        first, after = max(new.low, window.low), min(new.high, window.high)
        moved[first - new.low : after - new.low] = cost[first - window.low : after - window.low]
        outside = np.full(len(new.rests), np.inf, np.float32)
        first = max(new.first_rest, window.first_rest)
        after = min(new.first_rest + len(new.rests), window.first_rest + len(window.rests))
        outside[first - new.first_rest : after - new.first_rest] = elsewhere[
            first - window.first_rest : after - window.first_rest
        ]
        return new, moved, outside

    def _chunk(
        self, row: int, stop: int, window: _Window, cost: np.ndarray, elsewhere: np.ndarray
    ) -> tuple[_Chunk, np.ndarray, np.ndarray]:
        """Go on for some rows: where each state came from in them, and what being there and elsewhere costs then."""
        heard, part = self._heard, slice(window.low, window.high)
        spoken = heard.spoken[row : stop + 1].astype(np.float32)
        share = spoken[: stop - row]
        sounds = self._looked_at(heard.features[row:stop].astype(np.float32), share) @ window.costs
        away = share * (heard.least[row:stop] + np.float32(self._ear.margin))
        away += (1 - share) * np.float32(_SILENT_ELSEWHERE)
        stay, skip = self._stay[part], self._skip[part][2:]
        chunk = _Chunk.of(row, stop - row, window)
        now, skipping = np.empty_like(cost), np.empty_like(skip)
        for at in range(stop - row):
            # Two arrays take turns; masked copies would take five times as long.
            np.add(cost, stay, out=now)
            np.less(cost[:-1], now[1:], out=chunk.stepped[at, 1:])
            np.minimum(cost[:-1], now[1:], out=now[1:])
            np.add(cost[:-2], skip, out=skipping)
            np.less(skipping, now[2:], out=chunk.skipped[at, 2:])
            np.minimum(skipping, now[2:], out=now[2:])
            np.add(now, sounds[at], out=now)
            cost, now = now, cost
            elsewhere += away[at]
            if spoken[at] < 1:
                resting = cost[window.rests]
                entering = resting + np.float32(_ELSEWHERE)
                np.less(entering, elsewhere, out=chunk.entered[at])
                np.minimum(entering, elsewhere, out=elsewhere)
                returning = elsewhere + np.float32(_ELSEWHERE)
                np.less(returning, resting, out=chunk.returned[at])
                cost[window.rests] = np.minimum(returning, resting)
                if at + 1 < len(spoken) and spoken[at] < _QUIET <= spoken[at + 1]:
                    self._jump(chunk, row + at, cost)
        return chunk, cost, elsewhere

    def _costs(self, low: int, high: int) -> np.ndarray:
        """What rows as they are `_looked_at` have to be multiplied by, shape (FEATURES + 2, states)."""
        speech = self._states.speech[low:high]
        templates = self._ear.templates(self._states, np.arange(low, high)) * speech[:, None]
        squares = np.where(speech, (templates * templates).mean(axis=1), np.float32(_SPOKEN_REST))
        return np.concatenate([templates.T, squares[None], speech[None].astype(np.float32)])

    @staticmethod
    def _looked_at(features: np.ndarray, share: np.ndarray) -> np.ndarray:
        """What has to be multiplied by a window's `costs` for the cost of each row at each state: where only a share of
        a row is speech, only a share of it is compared."""
        compared = features * (-2 * share / features.shape[1])[:, None]
        alone = share * (features * features).mean(axis=1) + (1 - share) * np.float32(_SILENT_SPEECH)
        return np.concatenate([compared, share[:, None], alone[:, None]], axis=1)

    @staticmethod
    def _jump(chunk: _Chunk, row: int, cost: np.ndarray) -> None:
        """From the best place of each line to those a few lines before and after."""
        window = chunk.window
        leaving = np.minimum.reduceat(cost, window.lines) + np.float32(_BROKEN_OFF)
        np.minimum(leaving, np.minimum.reduceat(cost[window.rests], window.groups), out=leaving)
        lines = len(leaving)
        source = np.full(lines, int(leaving.argmin()))
        arriving = np.full(lines, leaving.min() + np.float32(_FAR), np.float32)
        far = min(_LINES_AWAY, lines - 1)
        for away in range(-far, far + 1):
            price = _BACK - _BACK_EACH * away if away <= 0 else _AHEAD + _AHEAD_EACH * (away - 1)
            into = slice(max(0, away), lines + min(0, away))
            out_of = slice(max(0, -away), lines - max(0, away))
            value = leaving[out_of] + np.float32(price)
            better = value < arriving[into]
            arriving[into][better] = value[better]
            source[into][better] = np.arange(lines)[out_of][better]
        value = arriving[window.arrival_groups] + window.arrival_costs
        better = value < cost[window.arrivals]
        lines_left = source[window.arrival_groups[better]]
        best = {line: window.best_of(line, cost) for line in set(lines_left.tolist())}
        chunk.jumps[row] = {
            target: best[line]
            for target, line in zip(window.arrivals[better].tolist(), lines_left.tolist(), strict=True)
        }
        cost[window.arrivals[better]] = value[better]

    def _settle(self, chunks: list[_Chunk], cost: np.ndarray, elsewhere: np.ndarray, row: int) -> None:
        """Write down the way to the best place now."""
        at, outside = int(cost.argmin()), False
        window = chunks[-1].window
        if elsewhere.min(initial=np.inf) < cost[at]:
            at, outside = int(window.rests[elsewhere.argmin()]), True
        state = window.low + at
        for chunk in reversed(chunks):
            window = chunk.window
            for row in range(chunk.row + len(chunk.stepped) - 1, chunk.row - 1, -1):
                state, outside = self._before(chunk, row, state, outside)

    def _before(self, chunk: _Chunk, row: int, state: int, outside: bool) -> tuple[int, bool]:
        """Write down where the way is in a row, and tell where it was in the row before."""
        window, at = chunk.window, row - chunk.row
        self._way[row] = -1 if outside else state
        state -= window.low
        if outside:
            if not chunk.entered[at, np.searchsorted(window.rests, state)]:
                return state + window.low, True
        else:
            state = chunk.jumps.get(row, {}).get(state, state)
            rest = np.searchsorted(window.rests, state)
            if rest < len(window.rests) and window.rests[rest] == state and chunk.returned[at, rest]:
                return state + window.low, True
        steps = 2 if chunk.skipped[at, state] else int(chunk.stepped[at, state])
        return state + window.low - steps, False

    def _excess(self, rows: int) -> np.ndarray:
        excess = np.zeros(rows, np.float32)
        for first in range(0, rows, 1 << 14):
            way = self._way[first : min(rows, first + (1 << 14))]
            at = np.flatnonzero(way >= 0)
            at = at[self._states.speech[way[at]]]
            apart = self._heard.features[first + at].astype(np.float32) - self._ear.templates(self._states, way[at])
            excess[first + at] = (apart * apart).mean(axis=1) - self._heard.least[first + at]
            let_go(self._heard.features)
        return excess
