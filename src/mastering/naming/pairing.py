"""Pairing two lists of names: recordings with sections, dictated names with sections."""

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from natsort import natsort_keygen, ns
from rapidfuzz import fuzz, process

from mastering.naming.checks import split_ending
from mastering.naming.patterns import plain
from mastering.said import Said

WAYS = {
    "number": Said("number-file-name"),
    "similar": Said("similar-name"),
    "order": Said("sorted-order"),
}
_NEARLY_ALL = 0.9
_LEAST_LIKENESS = 55.0
"""Out of 100. Below it two names have little more than common letters."""
_natural = natsort_keygen(alg=ns.IGNORECASE)


@dataclass(frozen=True)
class Target:
    """A section as far as pairing goes. `place` counts from 1, `name` is the file name a client dictates."""

    place: int
    number: int | None
    title: str
    role: str = ""
    name: str = ""


def pair(names: Sequence[str], targets: Sequence[Target], way: str) -> dict[int, int]:
    """Propose which name belongs to which target.

    Parameters
    ----------
    way
        One of WAYS.

    Returns
    -------
    Index of a name by index of its target; each is used at most once, what fits nothing is left out.
    """
    if not names or not targets:
        return {}
    return {"number": _by_number, "similar": _by_likeness, "order": _by_order}[way](names, targets)


def pair_best(names: Sequence[str], targets: Sequence[Target]) -> tuple[str, dict[int, int]]:
    """The way that pairs the most, and what it pairs; the earlier in WAYS where two do as well. Likeness is not tried
    where numbers pair nearly all. Sorted order pairs anything, so it wins only where the others find less than half.
    """
    most = min(len(names), len(targets))
    found = pair(names, targets, "number")
    if len(found) >= _NEARLY_ALL * most:
        return "number", found
    way = "number"
    if len(alike := pair(names, targets, "similar")) > len(found):
        way, found = "similar", alike
    return (way, found) if 2 * len(found) >= most else ("order", pair(names, targets, "order"))


def _by_order(names: Sequence[str], targets: Sequence[Target]) -> dict[int, int]:
    order = sorted(range(len(names)), key=lambda index: _natural(names[index]))
    return dict(enumerate(order[: len(targets)]))


def _by_number(names: Sequence[str], targets: Sequence[Target]) -> dict[int, int]:
    """A name may hold several numbers (a date, a take): the one that fits the most sections is meant. A section is
    known by its own number, by one in its dictated name, or by its place."""
    groups = [_numbers(name) for name in names]
    dictated = [_numbers(target.name) for target in targets]
    known_by: list[list[int | None]] = [
        [target.number for target in targets],
        *([group[at] if -len(group) <= at < len(group) else None for group in dictated] for at in (-1, 0, 1)),
        [target.place for target in targets],
    ]
    best: dict[int, int] = {}
    for wanted in known_by:
        for column in (0, 1, 2, 3, -1, -2):
            found = _matches(groups, column, wanted)
            if len(found) > len(best):
                best = found
    return best


def _numbers(name: str) -> list[int]:
    return [int(digits) for digits in re.findall(r"\d{1,9}", split_ending(name)[0])]


def _matches(groups: list[list[int]], column: int, wanted: list[int | None]) -> dict[int, int]:
    holders: dict[int, list[int]] = {}
    for index, numbers in enumerate(groups):
        if -len(numbers) <= column < len(numbers):
            holders.setdefault(numbers[column], []).append(index)
    asked: dict[int, list[int]] = {}
    for index, number in enumerate(wanted):
        if number is not None:
            asked.setdefault(number, []).append(index)
    # A number that two recordings or two sections carry does not say which is meant.
    return {
        asked[number][0]: who[0] for number, who in holders.items() if len(who) == 1 and len(asked.get(number, ())) == 1
    }


def _by_likeness(names: Sequence[str], targets: Sequence[Target]) -> dict[int, int]:
    left = [_words(split_ending(name)[0]) for name in names]
    likeness = _likeness([_words(target.title) or _words(target.role) for target in targets], left)
    if any(target.name for target in targets):
        likeness = np.maximum(likeness, _likeness([_words(split_ending(target.name)[0]) for target in targets], left))
    rows, columns = scipy.optimize.linear_sum_assignment(likeness, maximize=True)
    return {
        int(row): int(column)
        for row, column in zip(rows, columns, strict=True)
        if likeness[row, column] >= _LEAST_LIKENESS
    }


def _likeness(right: list[str], left: list[str]) -> np.ndarray:
    """How alike texts are, 0 to 100, shape (right, left)."""
    sets = process.cdist(right, left, scorer=fuzz.token_set_ratio, dtype=np.uint8, workers=-1).astype(np.float32)
    # Sets of words ignore what stands beside them; whole texts decide between those that contain one another.
    return 0.7 * sets + 0.3 * process.cdist(right, left, scorer=fuzz.ratio, dtype=np.uint8, workers=-1)


def _words(text: str) -> str:
    """Small plain words and numbers, without noughts in front."""
    return " ".join(word.lstrip("0") or word for word in re.findall(r"[^\W_\d]+|\d+", plain(text).lower()))
