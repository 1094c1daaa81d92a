"""What was read: each reading of each line, word by word, out of the way through its states."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from mastering.words.features import ROWS_PER_SECOND
from mastering.words.following import Way
from mastering.words.onsets import Speech
from mastering.words.states import States

_SNAPPED_S = 0.4
_WORD_SNAPPED_S = 0.1
_EDGE_STATES = 4
"""A reading that lacks no more than this of a line's first and last word is whole."""
_SHORTEST_OUTSIDE_S = 0.3
_NO_WORD_ROWS = round(0.12 * ROWS_PER_SECOND)
"""Quiet for so long is no closing of the lips within a word."""
_SPARE_STATES, _EDGE_ROWS, _UNLIKE = 8, 5, 0.45
"""So much of a line's edge may have been left to a noise; what lies next to it is then further from how it should sound
than the last, over so many rows (found with prompts of three readers, each followed by a cough)."""


@dataclass(frozen=True)
class HeardWord:
    """One word as it was spoken: its number in its line, start and end in seconds, and how far it lies from how it
    should sound, 0 for exactly so and about 1 for something else."""

    word: int
    start_s: float
    end_s: float
    apart: float


@dataclass(frozen=True)
class Reading:
    """One time a line was spoken, or a part of it: the number of the line, its words in order, seconds.

    `whole` is True where it runs from the first word to the last.
    """

    line: int
    start_s: float
    end_s: float
    whole: bool
    words: tuple[HeardWord, ...]

    @property
    def apart(self) -> float:
        """How far all of it lies from how it should sound, as of a word."""
        length = sum(word.end_s - word.start_s for word in self.words)
        return sum(word.apart * (word.end_s - word.start_s) for word in self.words) / length if length else 0.0


def readings_of(states: States, way: Way, speech: Speech) -> list[Reading]:
    """All readings in the order of the recording; what was begun and broken off is a reading too."""
    return [_reading(states, way, speech, *found) for found in _runs(states, way)]


def counting(readings: tuple[Reading, ...], lines: int) -> list[Reading | None]:
    """Of each line the reading that counts: the last whole one, else the longest of its parts, else None."""
    counted: list[Reading | None] = [None] * lines
    for reading in readings:
        other = counted[reading.line]
        if reading.whole or other is None or (not other.whole and len(reading.words) >= len(other.words)):
            counted[reading.line] = reading
    return counted


def outside_of(way: Way, share: np.ndarray) -> list[tuple[float, float]]:
    """Stretches of speech outside the script: starts and ends, seconds."""
    away = np.concatenate([[False], way.states < 0, [False]]).astype(np.int8)
    edges = np.flatnonzero(np.diff(away))
    found = []
    for first, stop in zip(edges[::2], edges[1::2], strict=True):
        spoken = first + np.flatnonzero(share[first:stop] > 0.5)
        if len(spoken) >= _SHORTEST_OUTSIDE_S * ROWS_PER_SECOND:
            found.append((float(spoken[0] / ROWS_PER_SECOND), float((spoken[-1] + 1) / ROWS_PER_SECOND)))
    return found


def _runs(states: States, way: Way) -> Iterator[tuple[int, np.ndarray]]:
    """For each reading its line and the rows in which a sound of it was spoken."""
    rows = np.flatnonzero(way.states >= 0)
    rows = rows[states.speech[way.states[rows]]]
    at = way.states[rows]
    begins = np.concatenate([[True], (states.line[at[1:]] != states.line[at[:-1]]) | (at[1:] < at[:-1])])
    for part in np.split(rows, np.flatnonzero(begins)[1:]) if len(rows) else []:
        yield int(states.line[way.states[part[0]]]), part


def _reading(states: States, way: Way, speech: Speech, line: int, rows: np.ndarray) -> Reading:
    at = way.states[rows]
    first_state, last_state = states.line_starts[line] + 1, states.line_starts[line + 1] - 1
    whole = bool(at[0] - first_state < _EDGE_STATES and last_state - at[-1] < _EDGE_STATES)
    held = _without_noises(states, way, speech, rows)
    noise_before, noise_after = held.start > 0, held.stop < len(rows)
    rows = rows[held]
    at = way.states[rows]
    words = states.word[at]
    begins = np.flatnonzero(np.concatenate([[True], words[1:] != words[:-1]]))
    ends = np.append(begins[1:], len(rows))
    first_word = int(np.searchsorted(states.word_lines, line))
    heard = []
    for start, stop in zip(begins, ends, strict=True):
        start_s, end_s = rows[start] / ROWS_PER_SECOND, (rows[stop - 1] + 1) / ROWS_PER_SECOND
        is_first, is_last = start == 0, stop == len(rows)
        start_s = speech.onset(start_s, _SNAPPED_S if is_first and not noise_before else _WORD_SNAPPED_S)
        if is_last:
            end_s = speech.ended(end_s, _WORD_SNAPPED_S if noise_after else _SNAPPED_S)
        else:
            end_s = speech.offset(end_s, _WORD_SNAPPED_S)
        apart = float(np.clip(way.excess[rows[start:stop]].mean(), 0, 9.99))
        heard.append(HeardWord(int(words[start]) - first_word, float(start_s), float(max(start_s, end_s)), apart))
    words_in_line = int(np.searchsorted(states.word_lines, line, side="right")) - first_word
    if whole and heard[0].word:
        heard[0] = replace(heard[0], word=0)
    each = tuple(_one_by_one(heard, until=words_in_line if whole else heard[-1].word + 1))
    return Reading(line, each[0].start_s, each[-1].end_s, whole, each)


def _without_noises(states: States, way: Way, speech: Speech, rows: np.ndarray) -> slice:
    """Which of its rows hold the words of a reading: a cough before or after takes the edge of a line for itself.

    It is told by quiet that no word has inside, or by quiet between words where what was cut off by it does not sound
    like what is left: the word it stands for was spoken with the next.
    """
    heard = np.zeros(rows[-1] + 1 - rows[0], bool)
    heard[rows - rows[0]] = ~speech.quiet[rows]
    edges = np.flatnonzero(np.diff(np.concatenate([[True], heard, [True]]).astype(np.int8))) + rows[0]
    at, words = way.states[rows], states.word[way.states[rows]]
    first, last = 0, len(rows)
    for start, stop in zip(edges[::2], edges[1::2], strict=True):
        before, after = int(np.searchsorted(rows, start)) - 1, int(np.searchsorted(rows, stop))
        if stop - start < _NO_WORD_ROWS or before < first or after >= last:
            continue
        inside = words[before] == words[after]
        if at[before] - at[first] <= _SPARE_STATES and (inside or _differs(way, rows[after : after + _EDGE_ROWS])):
            first = after
        elif at[-1] - at[after] <= _SPARE_STATES and (
            inside or _differs(way, rows[max(first, before + 1 - _EDGE_ROWS) : before + 1])
        ):
            last = before + 1
    return slice(first, last)


def _differs(way: Way, rows: np.ndarray) -> bool:
    return bool(way.excess[rows].mean() > _UNLIKE)


def _one_by_one(heard: Sequence[HeardWord], *, until: int) -> Iterator[HeardWord]:
    """The same with every word in it: some are spoken in one with the next, such as "had been", and share its time."""
    for word, following in zip(heard, [*(each.word for each in heard[1:]), until], strict=True):
        share_s = (word.end_s - word.start_s) / max(1, following - word.word)
        for at in range(max(1, following - word.word)):
            start_s = word.start_s + at * share_s
            yield HeardWord(word.word + at, start_s, start_s + share_s, word.apart)
