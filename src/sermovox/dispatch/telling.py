"""Telling how far a dispatch is, and hearing whether it is still wanted."""

import time
from collections.abc import Callable

from mastering.errors import Cancelled
from mastering.said import Said
from sermovox.dispatch.models import Dispatch
from sermovox.dispatch.ways.carrier import Told

_TOLD_EVERY_S = 0.5


def telling(dispatch: Dispatch, note: Callable[[int], None]) -> Told:
    """What is called with every bit that was sent: notes it now and then. It raises Cancelled where nobody wants it any
    more.
    """
    told_at = 0.0

    def told(sent_bytes: int) -> None:
        nonlocal told_at
        if time.monotonic() - told_at > _TOLD_EVERY_S:
            told_at = time.monotonic()
            note(sent_bytes)
            if not dispatch.is_wanted():
                raise Cancelled(Said("paused-cancelled"))

    return told
