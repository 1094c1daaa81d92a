"""A stretch as it is and as a plan would have it, to be heard side by side."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from mastering.audio.convert import to_channels
from mastering.making.survey import Sounding, levelled, opened
from mastering.meters.decibels import amplitude_of_db
from mastering.meters.kweighting import CHANNEL_NAMES
from mastering.meters.meter import Levels, Meter
from mastering.outlets.levelplan import LevelPlan
from mastering.shaping.chain import shaped_stretch

_LEAD_S = 1.0
"""How much before a stretch the filters and the limiter are set going."""
_HEARD_LUFS = -20.0


@dataclass(frozen=True)
class BeforeAfter:
    """A stretch before and after, at equal loudness, float32 of shape (frames, channels) at the source's rate."""

    before: np.ndarray
    after: np.ndarray
    sample_rate_hz: int


def before_and_after(
    recorded: Sounding, source: Sounding, plan: LevelPlan, levels: Levels, *, start_s: float, length_s: float
) -> BeforeAfter:
    """Hear what a plan does to a stretch: by the same steps that make the finished file, but for its format.

    Parameters
    ----------
    recorded
        The source with nothing mended.
    levels
        What the plan was made from.
    start_s
        Where it begins, seconds of the source; below 0 for room tone put before it.
    """
    before, after, rate_hz = sides(recorded, source, plan, levels, start_s=start_s, length_s=length_s)
    loud_db = [loudness_db(samples, rate_hz) for samples in (before, after)]
    factors = [amplitude_of_db(min(loud_db) - each) for each in loud_db]
    highest = max(
        (float(np.abs(s).max()) * f for s, f in zip((before, after), factors, strict=True) if len(s)), default=0
    )
    # Loud enough to judge, and nothing is clipped.
    louder = min(amplitude_of_db(_HEARD_LUFS - min(loud_db)), 0.9 / max(highest, 1e-9))
    heard = [s * np.float32(f * louder) for s, f in zip((before, after), factors, strict=True)]
    return BeforeAfter(heard[0], heard[1], rate_hz)


def sides(
    recorded: Sounding, source: Sounding, plan: LevelPlan, levels: Levels, *, start_s: float, length_s: float
) -> tuple[np.ndarray, np.ndarray, int]:
    """As `before_and_after`, each as loud as it is: before and after, shape (frames, channels), and their rate, Hz."""
    chain, channels = plan.chain(levels.envelope), levels.channels
    with opened(source) as sound, opened(recorded) as before_it:
        rate_hz = sound.sample_rate_hz
        start, end = round(start_s * rate_hz), round((start_s + length_s) * rate_hz)
        kept = to_channels(before_it.stretch(max(0, start), max(0, min(end, levels.frames))), channels)
        before = _joined(kept, channels)
        shift = round(chain.edges.tone_head_s * rate_hz) - round(chain.edges.cut_head_s * rate_hz)
        first = max(0, start + shift)
        lead = min(first, round(_LEAD_S * rate_hz))
        last = max(first, end + shift)
        # Hush and limiter look a little beyond the end, too.
        blocks = shaped_stretch(
            sound, chain, first - lead, last + rate_hz // 4, frames=levels.frames, channels=channels
        )
        blocks = levelled(blocks, plan, sample_rate_hz=rate_hz, channels=channels)
        after = _joined(blocks, channels)[lead : lead + last - first]
    return before, after, rate_hz


def loudness_db(samples: np.ndarray, rate_hz: int) -> float:
    """Loudness by which stretches are made equal, LUFS, or RMS where there is too little of them."""
    if not len(samples):
        return _HEARD_LUFS
    meter = Meter(rate_hz, CHANNEL_NAMES[samples.shape[1]], of_recording=False)
    meter.add(samples)
    levels = meter.levels()
    found = levels.integrated_lufs if levels.integrated_lufs is not None else levels.rms_dbfs
    return _HEARD_LUFS if found is None else found


def _joined(blocks: Iterator[np.ndarray], channels: int) -> np.ndarray:
    return np.concatenate([np.empty((0, channels), np.float32), *blocks])
