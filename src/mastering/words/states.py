"""A script as a row of states that a reading passes through: its sounds in steps of 40 ms, a rest after each word.

Every line begins with a rest; the last rest of all stands for no line.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from mastering.words.features import FEATURES, ROWS_PER_SECOND, Voice, powers
from mastering.words.spoken import RATE_HZ, SpokenLine

_ROWS_PER_STATE = 2
_NONE = -1
FULL_SCALE = 32768
THIRDS = 3
"""Of each sound its beginning, middle and end are held apart."""


@dataclass(frozen=True)
class States:
    """Arrays with an entry for each state, in the order of the script.

    `speech` tells sounds from rests; `line` and `word` their numbers, `word` counted through the whole script, -1 at
    the rest that a line begins with; `sound` which third of which sound it is, -1 in rests; `templates` what it is to
    sound like, shape (states, FEATURES). `line_starts` are the states at which lines begin, and the last rest;
    `word_lines` is the line of each word.
    """

    speech: np.ndarray
    line: np.ndarray
    word: np.ndarray
    sound: np.ndarray
    templates: np.ndarray
    line_starts: np.ndarray
    word_lines: np.ndarray

    def __len__(self) -> int:
        return len(self.speech)

    @property
    def lines(self) -> int:
        return len(self.line_starts) - 1


def states_of(spoken: Iterable[tuple[SpokenLine, int]], voice: Voice, *, warp: float, level: float) -> States:
    """Put a spoken script into states.

    Parameters
    ----------
    spoken
        Each line, and how many words it has.
    voice
        How the machine's powers become features.
    level
        What its powers are multiplied by before, so that it is as loud as the recording.
    """
    known: dict[str, int] = {}
    sounds: list[np.ndarray] = []
    of_words: list[np.ndarray] = []
    templates: list[np.ndarray] = []
    counts: list[int] = []
    words = 0
    for said, count in spoken:
        heard = voice.features(powers(said.samples.astype(np.float32) / FULL_SCALE, warp=warp) * np.float32(level))
        own_sounds, own_words, own_templates = [_NONE], [_NONE], [np.zeros(FEATURES, np.float32)]
        last = _NONE
        for first, stop, word, name in _stretches(said, len(heard)):
            if last not in (_NONE, word):
                own_sounds.append(_NONE)
                own_words.append(last)
                own_templates.append(own_templates[0])
            last = word
            steps = max(1, round((stop - first) / _ROWS_PER_STATE))
            edges = np.linspace(first, stop, steps + 1).round().astype(int)
            of_sound = known.setdefault(name, len(known)) * THIRDS
            for step, (begin, end) in enumerate(pairwise(edges)):
                own_sounds.append(of_sound + (step * THIRDS // steps if steps > 1 else 0))
                own_words.append(word)
                own_templates.append(heard[begin : max(end, begin + 1)].mean(axis=0))
        numbers = np.array(own_words, np.int32)
        of_words.append(np.where(numbers == _NONE, _NONE, numbers + words).astype(np.int32))
        sounds.append(np.array(own_sounds, np.int32))
        templates.append(np.stack(own_templates).astype(np.float16))
        counts.append(count)
        words += count
    lengths = [len(own) for own in sounds]
    line_starts = np.concatenate([[0], np.cumsum(lengths, dtype=int)])
    last_rest = np.array([_NONE], np.int32)
    sound = np.concatenate([*sounds, last_rest])
    return States(
        sound != _NONE,
        np.repeat(np.arange(len(counts) + 1, dtype=np.int32), [*lengths, 1]),
        np.concatenate([*of_words, last_rest]),
        sound,
        np.concatenate([*templates, np.zeros((1, FEATURES), np.float16)]),
        line_starts,
        np.repeat(np.arange(len(counts), dtype=np.int32), counts),
    )


def _stretches(said: SpokenLine, rows: int) -> list[tuple[int, int, int, str]]:
    """Each sound of a line that belongs to a word: first row, row after its last, its word, its name."""
    if not said.words:
        return []
    samples = [at for at, _ in said.sounds]
    edges = np.minimum(rows, np.round(np.array([*samples, len(said.samples)]) * ROWS_PER_SECOND / RATE_HZ).astype(int))
    begins = [at for at, _ in said.words]
    found = []
    for index, (sample, name) in enumerate(said.sounds):
        first, stop = int(edges[index]), int(edges[index + 1])
        at = int(np.searchsorted(begins, sample, side="right")) - 1
        if at >= 0 and stop > first and not name.startswith(("_", "(")):
            found.append((first, stop, said.words[at][1], name))
    return found
