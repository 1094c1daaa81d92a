"""How a voice is listened to: what is weighed how, and what each state of a script is to sound like in it."""

from dataclasses import dataclass

import numpy as np

from mastering.words.states import States

_ENOUGH_STATES = 100_000
"""What sounds are like on the whole is told from so many states."""


@dataclass(frozen=True)
class Ear:
    """How a voice is listened to.

    `weights`, shape (FEATURES, FEATURES), is what features are multiplied by; `line`, shape (FEATURES + 1, FEATURES),
    turns a state of the machine into one of the voice, and `moved` has for each third of a sound, the last for rests,
    what is added; `sounds`, shape (n, FEATURES), are the means of all thirds of sounds. What costs more than `margin`
    above the best of all sounds is no reading.
    """

    weights: np.ndarray
    line: np.ndarray
    moved: np.ndarray
    sounds: np.ndarray
    margin: float

    def heard(self, features: np.ndarray) -> np.ndarray:
        told: np.ndarray = (features @ self.weights).astype(np.float32)
        return told

    def templates(self, states: States, which: np.ndarray) -> np.ndarray:
        """What some states sound like, float32, shape (len(which), FEATURES)."""
        machine = states.templates[which].astype(np.float32)
        told: np.ndarray = machine @ self.line[:-1] + self.line[-1] + self.moved[states.sound[which]]
        return told

    def least(self, features: np.ndarray) -> np.ndarray:
        """What each row, as it was `heard`, costs at the best of all sounds, shape (rows,)."""
        if not len(self.sounds):
            return np.zeros(len(features), np.float32)
        told: np.ndarray = (features * features).mean(axis=1) + (
            (self.sounds * self.sounds).mean(axis=1) - features @ self.sounds.T * (2 / features.shape[1])
        ).min(axis=1)
        return told


def ear_of(states: States, weights: np.ndarray, line: np.ndarray, moved: np.ndarray, margin: float) -> Ear:
    """An ear by what was learned before it is weighed."""
    weights = weights.astype(np.float32)
    weighed = Ear(
        weights, line.astype(np.float32) @ weights, moved.astype(np.float32) @ weights, np.zeros((0, 0)), margin
    )
    some = some_speech(states)
    templates, sounds = weighed.templates(states, some), states.sound[some]
    counted = np.bincount(sounds, minlength=1)
    total = np.stack([np.bincount(sounds, column, minlength=1) for column in templates.T], axis=1)
    heard = counted > 0
    means = (total[heard] / counted[heard][:, None]).astype(np.float32)
    return Ear(weighed.weights, weighed.line, weighed.moved, means, margin)


def some_speech(states: States) -> np.ndarray:
    """The states of sounds, or enough of them."""
    told: np.ndarray = np.flatnonzero(states.speech[: 2 * _ENOUGH_STATES])[:_ENOUGH_STATES]
    return told
