"""Fades and crossfades along a quarter of a sine, so that the power of both sides of a crossfade adds up to one."""

import numpy as np


def fade_gains(way: str, length: int, start: int, count: int) -> np.ndarray:
    """Gains of `count` samples of a fade, from its sample `start` on. Float32, shape (count, 1).

    Sample i of a fade in over n samples has the gain sin(π/2 · (i + ½) / n); a fade out is its mirror image, and
    sin² + cos² = 1 makes a crossfade of equal power.

    >>> [f"{gain:.3f}" for gain in fade_gains("in", 2, 0, 2).ravel()]
    ['0.383', '0.924']
    """
    at = (np.arange(start, start + count) + 0.5) / length
    angle = np.pi / 2 * np.clip(at, 0.0, 1.0)
    return (np.sin(angle) if way == "in" else np.cos(angle)).astype(np.float32)[:, None]


def crossfaded(ending: np.ndarray, beginning: np.ndarray, *, overlap: int) -> np.ndarray:
    """Lay the end of one piece over the beginning of the next; both float32 of shape (n, channels).

    They may be the last n of `overlap` frames, when the crossfade was jumped into.
    """
    count = len(ending)
    at = overlap - count
    told: np.ndarray = ending * fade_gains("out", overlap, at, count) + beginning * fade_gains("in", overlap, at, count)
    return told
