"""Two sides of a recording, and what becomes of them in mono."""

from collections.abc import Mapping
from dataclasses import dataclass
from math import inf, log10, sqrt
from typing import Any

BY_ITSELF, SUM, LEFT, RIGHT, TURNED = "by itself", "sum", "left", "right", "one side turned"
WAYS = (BY_ITSELF, SUM, LEFT, RIGHT, TURNED)
"""How mono is made of two sides: as is right for them, the mean of both, one of them, the mean with one upside down."""

MOST_LOSS_DB = 3.0
"""What summing may take away: so much two sides lose that have nothing to do with each other (by arithmetic)."""
_OPPOSITE = -0.5
_SAME_VOICE = 0.5
_UNLIKE_DB = 4.0


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
