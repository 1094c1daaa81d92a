"""What a reader's sounds are like, learned from the machine's: first by ear, then from a way through the script."""

from dataclasses import replace
from pathlib import Path

import numpy as np

from mastering.words.ears import Ear, ear_of, some_speech
from mastering.words.features import FEATURES
from mastering.words.following import Heard, Way
from mastering.words.states import States

KNOWN = Path(__file__).with_name("ear.npy")
"""A line from the machine's features to a reader's, shape (FEATURES + 1, FEATURES), and below it the weights,
(FEATURES, FEATURES); learned by `sermovox.bench.ear` from Debian's prompts at 10 to 40 dB over white noise."""
FIRST_MARGIN = 1.0
"""Before a voice is known everything is taken for a reading."""
_UNKNOWN_MARGIN = 0.3
"""And where there was too little to learn from."""
_MARGIN_SHARE = 0.24
_RIDGE = 5.0
_FEW = 20.0
"""A sound that was heard this often is moved half of the way to how it was heard."""
_LOADED = 0.02
"""How much of the mean spread is added to each direction, so that none counts without end."""


def first_ear(states: States) -> Ear:
    """Before anything is known of a voice: what three readers of three languages had in common beside the machine."""
    line, weights = np.split(np.load(KNOWN), [FEATURES + 1])
    moved = np.zeros((states.sound.max() + 2, FEATURES))
    return ear_of(states, weights, line, moved, FIRST_MARGIN)


def learned(states: States, features: np.ndarray, spoken: np.ndarray, way: Way, *, margin: float) -> Ear:
    """Learn from a way that was found.

    The machine's features are turned into the reader's by a line through all of them (least squares), each third of a
    sound is then moved to where it was heard, and what is left apart tells what each direction counts (the inverse of
    its covariance). Lines that cost more than `margin` are no reading of the script and teach nothing.
    """
    taught = _teaches(states, spoken, way, margin)
    if taught.sum() < 10 * features.shape[1]:
        return replace(first_ear(states), margin=_UNKNOWN_MARGIN)
    heard = features[taught].astype(np.float64)
    at = way.states[taught]
    machine = states.templates[at].astype(np.float64)
    line = _line(machine, heard)
    left = heard - _with_ones(machine) @ line
    sounds = states.sound[at]
    # The last one is that of rests.
    known = np.bincount(sounds, minlength=states.sound.max() + 2)
    moved = np.stack([np.bincount(sounds, column, minlength=len(known)) for column in left.T], axis=1)
    shares = moved / (known + _FEW)[:, None]
    ear = ear_of(states, _weights(left - shares[sounds]), line, shares, FIRST_MARGIN)
    right, wrong = _costs(states, ear, ear.heard(features[taught]), at)
    return replace(ear, margin=right + _MARGIN_SHARE * (wrong - right))


def line_and_weights(machine: np.ndarray, reader: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The line from the machine's features to the reader's at the same places, shape (rows, FEATURES) both, and the
    weights that follow from what it leaves apart."""
    line = _line(machine, reader.astype(np.float64))
    left = reader - _with_ones(machine.astype(np.float64)) @ line
    return line, _weights(left)


def _line(machine: np.ndarray, reader: np.ndarray) -> np.ndarray:
    given = _with_ones(machine.astype(np.float64))
    told: np.ndarray = np.linalg.solve(given.T @ given + _RIDGE * np.eye(given.shape[1]), given.T @ reader)
    return told


def _weights(left: np.ndarray) -> np.ndarray:
    spread = left.T @ left / len(left)
    spread += np.eye(len(spread)) * spread.trace() / len(spread) * _LOADED
    told: np.ndarray = np.linalg.cholesky(np.linalg.inv(spread))
    return told


def _costs(states: States, ear: Ear, heard: np.ndarray, at: np.ndarray) -> tuple[float, float]:
    """What the rows of a reading cost above the best of all sounds, and what they would at any other state."""
    least = ear.least(heard)
    right = ((heard - ear.templates(states, at)) ** 2).mean(axis=1) - least
    per_line = [part.mean() for part in np.split(right, np.flatnonzero(np.diff(states.line[at])) + 1)]
    any_state = ear.templates(states, some_speech(states))
    wrong = (heard * heard).mean(axis=1) + (any_state * any_state).mean() - least
    wrong -= 2 * (heard @ any_state.mean(axis=0)) / heard.shape[1]
    return float(np.median(per_line)), float(wrong.mean())


def doubt_of(states: States, ear: Ear, heard: Heard, way: Way) -> float:
    """What a way costs as a share of what any other words would, as the first ear hears it.

    Of prompts in three languages it is below 0.25 for the right text, also at 10 dB over noise and for a single line,
    and above 0.35 for another text of the same reader. 0 where nothing was read.
    """
    read = _teaches(states, heard.spoken, way, np.inf)
    if not read.any():
        return 0.0
    right, wrong = _costs(states, ear, heard.features[read], way.states[read])
    return right / wrong


def per_line(states: States, way: Way) -> np.ndarray:
    """The mean excess of each line's rows, shape (lines,); nan where it has none."""
    rows = np.flatnonzero(way.states >= 0)
    rows = rows[states.speech[way.states[rows]]]
    lines = states.line[way.states[rows]]
    counted = np.bincount(lines, minlength=states.lines)[: states.lines]
    total = np.bincount(lines, way.excess[rows], minlength=states.lines)[: states.lines]
    return np.where(counted > 0, total / np.maximum(counted, 1), np.nan)


def _teaches(states: States, spoken: np.ndarray, way: Way, margin: float) -> np.ndarray:
    excess = per_line(states, way)
    told: np.ndarray = (way.states >= 0) & (spoken > 0.8)
    at = np.maximum(way.states, 0)
    told &= states.speech[at]
    told &= ~(np.append(excess, np.nan)[states.line[at]] > margin)
    return told


def _with_ones(templates: np.ndarray) -> np.ndarray:
    told: np.ndarray = np.concatenate([templates, np.ones((len(templates), 1), templates.dtype)], axis=1)
    return told
