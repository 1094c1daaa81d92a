"""What mends the sound itself, block by block: for marks on a page and for whole sections alike."""

from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass

import numpy as np

from mastering.said import Said
from mastering.shaping import declick, dehum


@dataclass(frozen=True, kw_only=True)
class Mend:
    """One way of mending. `title` and `does` are its words on plans, `hears_s` how much around a place it has to hear.

    What is not `for_music` takes notes for something to mend, and leaves music alone in whole sections. `run` gives as
    many samples as it takes, aligned to them. What it takes begins at a multiple of ALIGNED_S of the recording.
    """

    name: str
    title: str
    does: str
    run: Callable[[Iterator[np.ndarray], int], Iterator[np.ndarray]]
    hears_s: float
    for_music: bool = False


ALIGNED_S = 4
MENDS: dict[str, Mend] = {}
"""Every one by its name, in the order they are done."""


def fit_for(names: Collection[str], content_kind: str) -> tuple[str, ...]:
    """Those of them that may be done to a whole of such content, in order."""
    return tuple(name for name, mend in MENDS.items() if name in names and (mend.for_music or content_kind != "music"))


def register(mend: Mend) -> None:
    """Add one; it is done after those there are."""
    MENDS[mend.name] = mend


register(
    Mend(
        name="de-click",
        title="De-click",
        does=Said("mouth-clicks-ticks-mended-from"),
        run=declick.declicked,
        hears_s=declick.HEARS_S,
    )
)
register(
    Mend(
        name="de-hum",
        title=Said("hum-filter"),
        does=Said("hum-mains-harmonics-taken-off"),
        run=dehum.dehummed,
        hears_s=dehum.HEARS_S,
    )
)
