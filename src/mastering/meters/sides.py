"""Two sides of a recording, and what becomes of them in mono."""

from collections.abc import Mapping
from dataclasses import dataclass
from math import inf, log10, sqrt
from typing import Any

import numpy as np

BY_ITSELF, SUM, LEFT, RIGHT, TURNED = "by itself", "sum", "left", "right", "one side turned"
WAYS = (BY_ITSELF, SUM, LEFT, RIGHT, TURNED)
"""How mono is made of two sides: as is right for them, the mean of both, one of them, the mean with one upside down."""

MOST_LOSS_DB = 3.0
"""What summing may take away: so much two sides lose that have nothing to do with each other (by arithmetic)."""
_OPPOSITE = -0.5
_SAME_VOICE = 0.5
_UNLIKE_DB = 4.0
_FEWEST_STEPS = 50
_SPOKEN = 10**-1.2
"""Times the level of its speech."""
_FAINTEST = 1e-12
_ROUNDS = 12
_LEADS_DB = 7.0
_BOTH_SPEAK, _MOST_BETWEEN = 0.05, 0.15


@dataclass(frozen=True)
class Sides:
    """Mean squares of both sides and of their product, in any common unit."""

    left: float
    right: float
    product: float

    @property
    def dead(self) -> str:
        """The side that holds no sound; nothing where both do."""
        return LEFT if not self.left else RIGHT if not self.right else ""

    @property
    def correlation(self) -> float:
        """-1 to 1; 0 where a side is dead."""
        return self.product / sqrt(self.left * self.right) if self.left and self.right else 0.0

    @property
    def difference_db(self) -> float:
        """By how much the left side is the louder."""
        return 10 * log10(self.left / self.right) if self.left and self.right else 0.0

    def loss_db(self, way: str) -> float:
        """How much quieter mono is than the louder side. The sum is (L + R) / 2, so a dead side costs 6 dB."""
        signs = {SUM: 1, TURNED: -1}
        mono = (
            (self.left + self.right + 2 * signs[way] * self.product) / 4
            if way in signs
            else {LEFT: self.left, RIGHT: self.right}[way]
        )
        return 10 * log10(max(self.left, self.right) / mono) if mono > 0 else inf

    def by_itself(self) -> str:
        """The way that is right for these sides."""
        if self.dead:
            return RIGHT if self.dead == LEFT else LEFT
        if self.correlation < _OPPOSITE:
            return TURNED
        if self.correlation > _SAME_VOICE and abs(self.difference_db) > _UNLIKE_DB:
            return LEFT if self.difference_db > 0 else RIGHT
        return SUM


def voices_apart(left: np.ndarray, right: np.ndarray) -> float | None:
    """By how much the left voice is the louder where two people speak, one on each side; None where that is not so, dB.

    Where two take turns, one side leads by what reaches the other microphone, now this side and now that, and seldom
    anything between: the moments fall into two heaps. What is recorded with two microphones in one place, and music,
    has one heap or a wide field. Common practice, no source; calibrated on prompts put side by side with 8 to 40 dB
    between the microphones and 0 to 20 dB between the voices.

    Parameters
    ----------
    left, right
        The weighted mean square of each 100 ms, shape (n,).
    """
    if len(left) < _FEWEST_STEPS or not left.any() or not right.any():
        return None
    spoken = np.maximum(left / _active(left), right / _active(right)) > _SPOKEN
    leads_db = 10 * np.log10(np.maximum(left[spoken], _FAINTEST) / np.maximum(right[spoken], _FAINTEST))
    # What both microphones hear is between 0 and what the room lets through; two means find where the heaps lie.
    means = np.array([np.percentile(leads_db, 5), np.percentile(leads_db, 95)])
    for _ in range(_ROUNDS):
        heap = np.abs(leads_db[:, None] - means).argmin(axis=1)
        if not 0 < heap.sum() < len(heap):
            return None
        means = np.array([leads_db[heap == which].mean() for which in (0, 1)])
    low_db, high_db = means
    between = np.abs(leads_db - means.mean()) < (high_db - low_db) / 6
    few = min(heap.mean(), 1 - heap.mean()) < _BOTH_SPEAK
    if few or low_db > -_LEADS_DB or high_db < _LEADS_DB or between.mean() > _MOST_BETWEEN:
        return None
    return float(10 * np.log10(_active(left[spoken][heap == 1]) / _active(right[spoken][heap == 0])))


def _active(steps: np.ndarray) -> float:
    """The mean of what is within 10 dB of the mean, as with the relative gate of ITU-R BS.1770-5."""
    return float(steps[steps >= 0.1 * steps.mean()].mean())


def sides_of(figures: Mapping[str, Any]) -> Sides | None:
    """The sides of a recording, from what its slip keeps; None where it has not two, or not all is known."""
    if figures.get("channels") != 2:
        return None
    dead = figures.get("dead_channels") or ()
    if dead:
        return Sides(left=0.0 if 0 in dead else 1.0, right=0.0 if 1 in dead else 1.0, product=0.0)
    correlation, difference_db = figures.get("correlation"), figures.get("channel_difference_db")
    if correlation is None or difference_db is None:
        return None
    left = 10 ** (difference_db / 10)
    return Sides(left=left, right=1.0, product=correlation * sqrt(left))
