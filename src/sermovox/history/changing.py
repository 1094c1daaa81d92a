"""Changes of productions, each of which can be undone and redone, without limit.

Knows nothing of what is changed: apps register what tracks it in a module `tracked` of their own. All of it makes one
list for each production, so that what belongs together is taken back together.
"""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, Protocol

from django.db import transaction

from sermovox.history.models import Change

Rows = dict[str, dict]


class Tracker(Protocol):
    """What keeps one kind of thing in the history. `prefix` tells its keys from those of others; one may have none."""

    prefix: str

    def state(self, production, beside: Sequence) -> Any:
        """How everything is before a change; `beside` are what is changed besides what is always looked at."""

    def difference(self, production, was: Any, beside: Sequence) -> tuple[Rows, Rows]:
        """What it takes to come back to an earlier state, and from there to the present one."""

    def apply(self, production, rows: Rows) -> None:
        """Write one side of a difference."""

    def forget(self, production, changes: Sequence[Change]) -> None:
        """Let go of what only these changes made; they were undone and cannot be done again."""


_trackers: list[Tracker] = []


def tracks(tracker: Tracker) -> None:
    """Register what is kept in the history. It is applied in the order of registering, the last first."""
    _trackers.append(tracker)


@dataclass
class Named:
    """What a change is called; may be settled while it is made."""

    words: str


@contextmanager
def changing(production, user, words: str, *, beside: Sequence = ()) -> Iterator[Named]:
    """Whatever is done inside to what is tracked becomes one change; nothing of it stays if it fails."""
    named = Named(words)
    with transaction.atomic():
        states = [tracker.state(production, beside) for tracker in _trackers]
        yield named
        old: Rows = {}
        new: Rows = {}
        for tracker, was in zip(_trackers, states, strict=True):
            before, after = tracker.difference(production, was, beside)
            old |= {f"{tracker.prefix}{key}": row for key, row in before.items()}
            new |= {f"{tracker.prefix}{key}": row for key, row in after.items()}
        if not new:
            return
        undone = list(production.changes.filter(undone=True))
        for tracker in _trackers:
            tracker.forget(production, undone)
        production.changes.filter(pk__in=[change.pk for change in undone]).delete()
        production.changes.create(made_by=user, words=named.words, before=old, after=new)


def last_change(production) -> Change | None:
    """What undo would undo."""
    return production.changes.filter(undone=False).last()


def next_change(production) -> Change | None:
    """What redo would redo."""
    return production.changes.filter(undone=True).first()


def undo(production) -> Change | None:
    """Take back the last change. Returns it, or None when there is none."""
    with transaction.atomic():
        change = last_change(production)
        if change:
            _apply(production, change.before)
            production.changes.filter(pk=change.pk).update(undone=True)
        return change


def redo(production) -> Change | None:
    """Make the change that was last taken back again."""
    with transaction.atomic():
        change = next_change(production)
        if change:
            _apply(production, change.after)
            production.changes.filter(pk=change.pk).update(undone=False)
        return change


def _apply(production, fields: Rows) -> None:
    own: dict[str, Rows] = {tracker.prefix: {} for tracker in _trackers}
    # The longest first: that of one tracker is empty.
    prefixes = sorted(own, key=len, reverse=True)
    for key, row in fields.items():
        prefix = next(each for each in prefixes if key.startswith(each))
        own[prefix][key.removeprefix(prefix)] = row
    for tracker in reversed(_trackers):
        tracker.apply(production, own[tracker.prefix])
