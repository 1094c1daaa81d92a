"""How much sound is taken at a time, and what of it is over in seconds."""

from pathlib import Path

from django.conf import settings

from mastering.audio.reader import Reader
from mastering.clock import clock
from mastering.errors import MasteringError, UnreadableRecording
from mastering.said import Said

_SHORT_BYTES = 256 << 20
_SHORT_SAMPLES = 200_000_000


def is_short(path: Path) -> bool:
    """Whether measuring a file takes some seconds. A small one may hold hours of silence, so that it is opened."""
    try:
        if path.stat().st_size > _SHORT_BYTES:
            return False
        with Reader(path) as reader:
            return (reader.promised_s or 0.0) * reader.sample_rate_hz * reader.channels <= _SHORT_SAMPLES
    except (MasteringError, OSError):
        return True


def refuse_too_long(seconds: float, channels: int, sample_rate_hz: int) -> None:
    """Raise UnreadableRecording for more sound than this server measures at a time."""
    if seconds * channels * sample_rate_hz > settings.MOST_SAMPLES:
        most_s = settings.MOST_SAMPLES / channels / sample_rate_hz
        raise UnreadableRecording(
            Said(
                "recording-longer-than-most-server", most_s=clock(most_s), count=channels, sample_rate_hz=sample_rate_hz
            )
        )
