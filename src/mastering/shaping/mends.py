"""What mends the sound itself, block by block: for marks on a page and for whole sections alike."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True, kw_only=True)
class Mend:
    """One way of mending. `title` and `does` are its words on plans, `hears_s` how much around a place it has to hear.

    `run` gives as many samples as it takes, aligned to them. What it takes begins at a whole second of the recording.
    """

    name: str
    title: str
    does: str
    run: Callable[[Iterator[np.ndarray], int], Iterator[np.ndarray]]
    hears_s: float


MENDS: dict[str, Mend] = {}
"""Every one by its name, in the order they are done."""


def register(mend: Mend) -> None:
    """Add one; it is done after those there are."""
    MENDS[mend.name] = mend
