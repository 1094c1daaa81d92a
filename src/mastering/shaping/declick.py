"""Mouth clicks and ticks mended from what lies on both sides of them. Whatever is not mended passes bit for bit."""

from collections.abc import Iterator

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from mastering.meters.clicks import clicks

HEARS_S = 0.3
_STRETCH_S, _AROUND_S = 4, 1
"""So much is looked at at a time, with so much on each side. Whole seconds, as each is a whole number of samples in
both rates: what is found does not depend on where reading began."""
_MODEL_ORDER, _MODEL_S = 32, 0.020


def declicked(blocks: Iterator[np.ndarray], sample_rate_hz: int) -> Iterator[np.ndarray]:
    """Mend clicks of 0.2 to 3 ms; output is aligned to the sample with input and of the same length.

    Blocks are float32 of shape (frames, channels), the first from a whole second of the recording.
    """
    hop, around = _STRETCH_S * sample_rate_hz, _AROUND_S * sample_rate_hz
    heard: np.ndarray | None = None
    before = 0
    """How much of `heard` was looked at already and is there to be heard around the next stretch."""
    for block in blocks:
        heard = block if heard is None else np.concatenate([heard, block])
        while len(heard) >= before + hop + around:
            yield _mended(heard[: before + hop + around], before, before + hop, sample_rate_hz)
            heard, before = heard[before + hop - around :], around
    if heard is not None and len(heard) > before:
        yield _mended(heard, before, len(heard), sample_rate_hz)


def _mended(heard: np.ndarray, start: int, end: int, rate_hz: int) -> np.ndarray:
    """The part from start to end with its clicks mended, also those that reach into it."""
    mended = heard[start:end]
    for channel in range(heard.shape[1]):
        for first, last in clicks(heard[:, channel], rate_hz):
            if first < end and last > start:
                if mended.base is not None:
                    mended = mended.copy()
                filled = _filled(heard[:, channel], first, last, rate_hz)
                mended[max(0, first - start) : last - start, channel] = filled[max(0, start - first) : end - first]
    return mended


def _filled(samples: np.ndarray, start: int, end: int, rate_hz: int) -> np.ndarray:
    """What should be in a gap by what lies on both sides: the samples that leave an autoregressive model of the
    surroundings least to explain (Janssen, Veldhuis and Vries 1986, from memory).
    """
    reach = round(_MODEL_S * rate_hz)
    first = max(0, start - reach)
    part = samples[first : end + reach].astype(np.float64)
    gap = slice(start - first, end - first)
    order = min(_MODEL_ORDER, (len(part) - (end - start)) // 4)
    rows = sliding_window_view(part, order + 1)
    ends = np.arange(order, len(part))
    fitted = rows[(ends < gap.start) | (ends - order >= gap.stop)]
    products = fitted.T @ fitted
    products[np.diag_indices(order + 1)] = products.diagonal() * (1 + 1e-7) + 1e-12
    taps = np.append(-np.linalg.solve(products[:order, :order], products[:order, order]), 1.0)
    # Each row of the residual that a sample of the gap has a part in, as a function of the samples.
    touched = np.arange(max(order, gap.start), min(len(part), gap.stop + order))
    matrix = np.zeros((len(touched), len(part)))
    for at, tap in enumerate(taps):
        matrix[np.arange(len(touched)), touched - order + at] = tap
    known = part.copy()
    known[gap] = 0
    told: np.ndarray = np.linalg.lstsq(matrix[:, gap], -(matrix @ known), rcond=None)[0].astype(np.float32)
    return told
