"""Channels, sample rate and bit depth: from the recording's to the outlet's."""

from collections.abc import Iterator
from functools import lru_cache

import numpy as np
import soxr

from mastering.audio.formats import FLOAT_32, INT_16, INT_24

DITHER_SEED = 20111
"""Fixed, so that the same recording and rules give the same bytes."""


def to_channels(blocks: Iterator[np.ndarray], channels: int) -> Iterator[np.ndarray]:
    """Turn stereo into mono (the mean of both sides) or mono into stereo (the same on both sides).

    Other numbers of channels pass through unchanged.
    """
    for block in blocks:
        if channels == 1 and block.shape[1] == 2:
            yield block.mean(axis=1, keepdims=True, dtype=np.float32)
        elif channels == 2 and block.shape[1] == 1:
            yield np.repeat(block, 2, axis=1)
        else:
            yield block


_FOLDS = {"left": (1.0, 0.0), "right": (0.0, 1.0), "sum": (0.5, 0.5), "one side turned": (0.5, -0.5)}
"""What each side counts in mono, by the way it is made."""


def folded(blocks: Iterator[np.ndarray], way: str) -> Iterator[np.ndarray]:
    """Turn stereo into mono in one of the ways of `mastering.meters.sides`; what is not stereo passes through."""
    left, right = (np.float32(factor) for factor in _FOLDS[way])
    for block in blocks:
        if block.shape[1] == 2:
            block = (left * block[:, :1] + right * block[:, 1:]) if left and right else block[:, [0 if left else 1]]
        yield block


def resampled(
    blocks: Iterator[np.ndarray], *, from_hz: int, to_hz: int, channels: int, quality: str = "VHQ"
) -> Iterator[np.ndarray]:
    """Change the sample rate with soxr, by default at its very high quality; the same rate passes through."""
    if from_hz == to_hz:
        yield from blocks
        return
    stream = soxr.ResampleStream(from_hz, to_hz, channels, dtype="float32", quality=quality)
    for block in blocks:
        out = stream.resample_chunk(np.ascontiguousarray(block))
        if len(out):
            yield out
    rest = stream.resample_chunk(np.zeros((0, channels), np.float32), last=True)
    if len(rest):
        yield rest


def to_held(blocks: Iterator[np.ndarray], *, holds: str, dither: bool, gain: float = 1.0) -> Iterator[np.ndarray]:
    """Turn float32 blocks into the samples a format holds: int16 as `to_16_bit`, int32 or float32.

    24 bits stand in the upper three bytes of an int32. Only 16 bits are dithered: what is rounded away below them lies
    under the noise of any microphone (common practice, no source).
    """
    if holds == INT_16:
        return to_16_bit(blocks, dither=dither, gain=gain)
    if holds == FLOAT_32:
        return blocks if gain == 1.0 else (block * np.float32(gain) for block in blocks)
    return _to_32_bit(blocks, gain=gain, step=256 if holds == INT_24 else 1)


def _to_32_bit(blocks: Iterator[np.ndarray], *, gain: float, step: int) -> Iterator[np.ndarray]:
    scale, highest = gain * 2**31 / step, 2**31 / step - 1
    for block in blocks:
        scaled = np.clip(np.rint(block * np.float64(scale)), -highest - 1, highest)
        yield scaled.astype(np.int32) * np.int32(step)


def to_16_bit(blocks: Iterator[np.ndarray], *, dither: bool, gain: float = 1.0) -> Iterator[np.ndarray]:
    """Round float32 blocks to int16, with triangular dither of two steps' width where wanted.

    What lies beyond full scale is clipped. Full scale 1.0 is 32768, so 16-bit audio that passed through
    unchanged comes back bit for bit when not dithered. `gain` is a factor applied on the way.
    """
    scale = np.float32(32768 * gain)
    for number, block in enumerate(blocks):
        scaled = block * scale
        if dither:
            scaled += _dither(number, scaled.size).reshape(scaled.shape)
        np.rint(scaled, out=scaled)
        np.clip(scaled, -32768, 32767, out=scaled)
        yield scaled.astype(np.int16)


@lru_cache(maxsize=4)
def _dither(number: int, size: int) -> np.ndarray:
    """Triangular noise two steps wide for the block of a number, float32.

    Kept for a moment: files that are made at the same time go through their blocks side by side.
    """
    raw = np.random.SFC64([DITHER_SEED, number]).random_raw((size + 1) // 2).view(np.int16)
    noise = raw[:size].astype(np.float32)
    noise += raw[size : 2 * size]
    noise *= np.float32(1 / 65536)
    return noise
