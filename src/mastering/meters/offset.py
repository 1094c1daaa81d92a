"""Sound that lies below what is heard: rumble, and an offset of the zero line."""

from mastering.meters.decibels import db_of_amplitude
from mastering.meters.envelope import Envelope
from mastering.meters.meter import Levels
from mastering.meters.speech import noise_floor

_LOW_DB = 3.0
_MOSTLY_DB = 3.0
"""Half of a power."""


def lies_low(levels: Levels) -> bool:
    """Whether most of what is in the pauses lies below what is heard: rumble, or an offset of the zero line.

    K-weighting leaves such sound out, and raises what is heard by up to 4 dB (ITU-R BS.1770-5, annex 1).
    """
    if levels.noise_floor_dbfs is None:
        return False
    envelope = levels.envelope
    heard = noise_floor(Envelope(envelope.weighted, envelope.weighted, envelope.peak))
    return heard is None or levels.noise_floor_dbfs - heard > _LOW_DB


def offset_of(levels: Levels) -> float | None:
    """How far the zero line is off, full scale 1.0, where that makes up most of the noise floor; else None."""
    floor_dbfs, dc = levels.noise_floor_dbfs, levels.dc_offset
    return dc if dc and floor_dbfs is not None and db_of_amplitude(dc) > floor_dbfs - _MOSTLY_DB else None
