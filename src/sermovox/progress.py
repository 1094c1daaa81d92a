"""How long work under way will still take."""

from datetime import datetime

from django.utils import timezone

_TOO_LITTLE = 0.02


def seconds_left(started_at: datetime | None, share: float) -> float | None:
    """From the share done, 0.0 to 1.0, and the time it took; None while there is too little to go by."""
    if not started_at or share < _TOO_LITTLE:
        return None
    return (timezone.now() - started_at).total_seconds() * (1 - share) / share
