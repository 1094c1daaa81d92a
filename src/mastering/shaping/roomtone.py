"""More of the same room: any length of it from a quiet stretch, never a loop and never digital silence."""

from collections.abc import Iterator

import numpy as np

_GRAIN_S = 0.4
_SEED = 40129


def room_tone(quiet: np.ndarray, length: int, *, sample_rate_hz: int) -> Iterator[np.ndarray]:
    """Yield `length` samples that sound like a quiet stretch, float32 blocks of shape (frames, channels).

    Grains from places chosen at random are laid over each other by half under a sine window, whose squares add up to
    one, so the level stays that of the stretch. The same input gives the same samples.

    Parameters
    ----------
    quiet
        Float32, shape (n, channels), n ≥ 1: the stretch to learn from.
    """
    grain = max(2, min(len(quiet), round(_GRAIN_S * sample_rate_hz)) // 2 * 2)
    if len(quiet) < grain:
        quiet = np.resize(quiet, (grain, quiet.shape[1]))
    hop = grain // 2
    window = np.sin(np.pi * (np.arange(grain) + 0.5) / grain).astype(np.float32)[:, None]
    random = np.random.Generator(np.random.SFC64(_SEED))
    made = 0
    before = None
    while made < length:
        start = int(random.integers(0, len(quiet) - grain + 1))
        shaped = quiet[start : start + grain] * window
        if before is not None:
            block = (before[hop:] + shaped[:hop])[: length - made]
            made += len(block)
            yield block
        before = shaped
