"""Steady background noise down, by what is learned from a stretch that holds nothing else."""

from collections.abc import Iterator

import numpy as np
import scipy

from mastering.meters.decibels import amplitude_of_db

_WINDOW_S = 0.04
_OVERLAP = 2
_OVER = 3.0
"""How many times the mean noise power a bin must hold to pass: noise alone seldom does (spectral subtraction with
overestimation; Berouti, Schwartz and Makhoul 1979, from memory)."""
_LEAST_POWER = np.float32(1e-30)
_SMOOTHED = (5, 3)
"""Bins and frames the power is averaged over, so that single bins do not ring."""


def window_frames(sample_rate_hz: int) -> int:
    """The length of the analysis window: a power of two, about 40 ms."""
    return int(1 << round(np.log2(_WINDOW_S * sample_rate_hz)))


def noise_power(quiet: np.ndarray, *, sample_rate_hz: int) -> np.ndarray:
    """The mean power spectrum of a stretch of noise, float32 of shape (channels, bins)."""
    size = window_frames(sample_rate_hz)
    if len(quiet) < 2 * size:
        quiet = np.resize(quiet, (2 * size, quiet.shape[1]))
    spectra = scipy.fft.rfft(_frames(quiet, size) * _window(size), axis=-1)
    told: np.ndarray = (np.abs(spectra) ** 2).mean(axis=1).astype(np.float32)
    return told


def hushed(
    blocks: Iterator[np.ndarray], *, noise: np.ndarray, lower_db: float, sample_rate_hz: int
) -> Iterator[np.ndarray]:
    """Lower steady noise; output is aligned to the sample with input and of the same length.

    Parameters
    ----------
    noise
        What `noise_power` found, shape (channels, bins).
    lower_db
        By how much what is noise alone becomes quieter, dB above 0.
    """
    size = window_frames(sample_rate_hz)
    hop = size // _OVERLAP
    least = np.float32(amplitude_of_db(-lower_db))
    threshold = np.float32(_OVER) * noise[:, None, :]
    window = _window(size)
    channels = len(noise)
    taken = given = 0
    # Frames reach before the first sample and beyond the last, so that every sample has its full number of windows;
    # the averages look some frames to each side.
    reach = (_SMOOTHED[1] // 2) * hop
    waiting = np.zeros((size - hop + reach, channels), np.float32)
    lead = len(waiting)
    carry = np.zeros((channels, hop), np.float32)
    ended = False
    source = iter(blocks)
    while not ended:
        block = next(source, None)
        if block is None:
            ended = True
            block = np.zeros((size + 2 * reach + hop, channels), np.float32)
        else:
            taken += len(block)
        waiting = np.concatenate([waiting, block])
        count = (len(waiting) - size) // hop + 1
        whole = count - 2 * (reach // hop)
        if whole <= 0:
            continue
        framed = _frames(waiting[: (count - 1) * hop + size], size, hop)
        spectra = scipy.fft.rfft(framed * window, axis=-1)
        power = np.square(spectra.real) + np.square(spectra.imag)
        power = scipy.ndimage.uniform_filter(power, (1, _SMOOTHED[1], _SMOOTHED[0]), mode="nearest")
        # What passes is 1 where the bin is far above the noise and 0 where it is noise alone.
        spectra *= least + (1 - least) * np.maximum(0.0, 1 - threshold / np.maximum(power, _LEAST_POWER))
        inner = slice(reach // hop, reach // hop + whole)
        shaped = scipy.fft.irfft(spectra[:, inner], n=size, axis=-1, overwrite_x=True) * window
        # The first half of each frame lies over the second half of the one before.
        halves = shaped.reshape(channels, whole, _OVERLAP, hop)
        out = halves[:, :, 0]
        out[:, 0] += carry
        out[:, 1:] += halves[:, :-1, 1]
        carry = halves[:, -1, 1].copy()
        ready = out.reshape(channels, whole * hop).T
        waiting = waiting[whole * hop :]
        skip = min(len(ready), max(0, lead - reach))
        lead -= skip
        ready = ready[skip:][: taken - given]
        given += len(ready)
        if len(ready):
            yield ready


def _frames(samples: np.ndarray, size: int, hop: int | None = None) -> np.ndarray:
    """Overlapping frames, shape (channels, frames, size)."""
    view = np.lib.stride_tricks.sliding_window_view(samples, size, axis=0)[:: hop or size // _OVERLAP]
    return view.transpose(1, 0, 2)


def _window(size: int) -> np.ndarray:
    """The root of a Hann window: laid over each other by half, the squares of two add up to one."""
    return np.sin(np.pi * (np.arange(size) + 0.5) / size).astype(np.float32)
