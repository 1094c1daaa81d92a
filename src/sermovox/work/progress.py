"""How far work under way is, and how long it will still take."""

import time
from collections.abc import Callable
from datetime import datetime

from django.utils import timezone

from mastering.errors import Cancelled
from mastering.said import Said

_TOO_LITTLE = 0.02


def telling(
    tell: Callable[[float], bool], *, every_s: float, cancelled: str = Said("cancelled-sentence")
) -> Callable[[float], None]:
    """What long work calls with the share done, 0.0 to 1.0: now and then that is noted with `tell`; where this says
    that nobody wants it any more, Cancelled is raised.
    """
    told_at = 0.0

    def progress(share: float) -> None:
        nonlocal told_at
        if time.monotonic() - told_at > every_s:
            told_at = time.monotonic()
            if tell(share):
                raise Cancelled(cancelled)

    return progress


def seconds_left(started_at: datetime | None, share: float) -> float | None:
    """From the share done, 0.0 to 1.0, and the time it took; None while there is too little to go by."""
    if not started_at or share < _TOO_LITTLE:
        return None
    return (timezone.now() - started_at).total_seconds() * (1 - share) / share
