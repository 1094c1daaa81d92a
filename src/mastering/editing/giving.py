"""To which sections stretches of a recording go: to those that wait for one, in order, and to new ones for the rest."""

from collections.abc import Sequence
from dataclasses import dataclass
from math import inf

Samples = tuple[int, int]
"""From a sample to before another."""


@dataclass(frozen=True)
class Waits:
    """A section without a recording: its key, and its place in the running order, from 1."""

    key: int
    position: int


@dataclass(frozen=True)
class Lies(Waits):
    """A section that has a stretch of the recording; `whole`, where it is all of it as it came in."""

    span: Samples
    whole: bool = False


@dataclass(frozen=True)
class Given:
    """The key of the section that each stretch goes to, None for a new one. New ones stand in the order of their
    stretches `before` a section, else `after` one, else at the end.
    """

    keys: tuple[int | None, ...]
    before: int | None = None
    after: int | None = None


def placeholder(spans: Sequence[Samples], lying: Sequence[Lies], frames: int) -> Lies | None:
    """The section of a recording of `frames` samples that came in alone, whose place the first stretch takes."""
    alone = len(lying) == 1 and lying[0].whole
    return lying[0] if alone and (0, frames) not in spans else None


def clash(spans: Sequence[Samples], lying: Sequence[Lies]) -> Lies | None:
    """The first section that has samples in common with one of these stretches."""
    both = ((span, each) for span in spans for each in lying)
    return next((each for span, each in both if each.span[0] < span[1] and span[0] < each.span[1]), None)


def give(
    spans: Sequence[Samples], lying: Sequence[Lies], waiting: Sequence[Waits], *, frames: int, from_end: bool
) -> Given:
    """Give stretches away that have no samples in common, with each other or with what lies there already.

    What waits between the sections on both sides comes first, so that running order and recording keep step: the first
    of it, or the last with `from_end`. Where nothing lies, all that waits may be given to.

    >>> lying = [Lies(1, 1, (0, 100)), Lies(4, 4, (300, 400))]
    >>> waiting = [Waits(2, 2), Waits(3, 3), Waits(5, 5)]
    >>> give([(200, 300), (100, 200)], lying, waiting, frames=400, from_end=False)
    Given(keys=(3, 2), before=None, after=3)
    >>> give([(150, 200)], lying, waiting, frames=400, from_end=True)
    Given(keys=(3,), before=3, after=None)
    >>> give([(0, 9), (9, 12)], [], [Waits(7, 1)], frames=400, from_end=False)
    Given(keys=(7, None), before=None, after=7)
    """
    ordered = sorted(range(len(spans)), key=lambda at: spans[at])
    start, end = spans[ordered[0]][0], spans[ordered[-1]][1]
    before = [each for each in lying if each.span[1] <= start]
    after = [each for each in lying if each.span[0] >= end]
    if taken := placeholder(spans, lying, frames):
        usable: list[Waits] = [taken, *(each for each in waiting if each.position > taken.position)]
    else:
        low = before[-1].position if before else 0
        high = after[0].position if after else inf
        usable = [each for each in waiting if low < each.position < high or low > high]
    chosen = usable[max(0, len(usable) - len(spans)) :] if from_end else usable[: len(spans)]
    new: list[None] = [None] * (len(spans) - len(chosen))
    following = chosen[0] if from_end and chosen else after[0] if after and not chosen and not before else None
    anchor = chosen[-1] if chosen else before[-1] if before else None
    keys = [each.key for each in chosen]
    by_place: dict[int, int | None] = dict(zip(ordered, [*new, *keys] if following else [*keys, *new], strict=True))
    return Given(
        tuple(by_place[at] for at in range(len(spans))),
        before=following.key if following else None,
        after=anchor.key if anchor and not following else None,
    )
