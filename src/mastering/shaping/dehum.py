"""Mains hum taken away: sines at the frequency of the mains and its harmonics, found and taken off.

Each stretch is heard with a second on both sides. Its quiet moments count most, so that a voice hardly bears on what is
found there; least squares over six seconds tell each harmonic's amplitude and phase, which is a notch of a sixth of a
hertz that does not ring. Harmonics that do not stand out are left alone, and a stretch without any passes bit for bit.
Common practice, no source.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import scipy

from mastering.meters.hum import MAINS_HZ

_STRETCH_S, _AROUND_S = 4, 1
HEARS_S = _STRETCH_S + 2.0 * _AROUND_S
"""So that the first stretch, which hears nothing before it, lies before what is wanted."""
_SLOW_HZ = 2000
_HIGHEST_HZ = 800
_WITHIN_HZ, _STEP_HZ = 0.4, 0.005
_BESIDE_HZ = (-6.5, -4.5, 4.5, 6.5)
_STANDS_OUT, _ALONE = 10.0, 40.0
"""Times the power beside it, 10 dB as for the slip; a harmonic that is the only one has to stand out by 16 dB: noise
does so in one stretch of some hundred.
"""
_CROSSED_S = 0.25
_LEVEL_S = 0.1
_FAINTEST = 1e-7


@dataclass(frozen=True)
class _Hum:
    """Sines: their frequencies and the factors of cosine and sine of each channel, shape (2 n, channels); phases count
    from a frame of the stream.
    """

    hz: np.ndarray
    factors: np.ndarray
    origin: int

    def sound(self, start: int, end: int, rate_hz: int) -> np.ndarray:
        """Its samples from one frame of the stream to another, shape (frames, channels)."""
        phase = 2 * np.pi * np.outer((np.arange(start, end) - self.origin) / rate_hz, self.hz)
        told: np.ndarray = np.concatenate([np.cos(phase), np.sin(phase)], axis=1) @ self.factors
        return told


def dehummed(blocks: Iterator[np.ndarray], sample_rate_hz: int) -> Iterator[np.ndarray]:
    """Take hum away; output is aligned to the sample with input and of the same length.

    Blocks are float32 of shape (frames, channels), the first from a multiple of four seconds of the recording.
    """
    hop, around = _STRETCH_S * sample_rate_hz, _AROUND_S * sample_rate_hz
    heard: np.ndarray | None = None
    before = at = 0
    last: _Hum | None = None
    for block in blocks:
        heard = block if heard is None else np.concatenate([heard, block])
        while len(heard) >= before + hop + around:
            found = _found(heard[: before + hop + around], at, sample_rate_hz)
            yield _without(heard[before : before + hop], found, last, at + before, sample_rate_hz)
            last = found
            drop = before + hop - around
            heard, at, before = heard[drop:], at + drop, around
    if heard is not None and len(heard) > before:
        found = _found(heard, at, sample_rate_hz)
        yield _without(heard[before:], found, last, at + before, sample_rate_hz)


def _without(part: np.ndarray, hum: _Hum | None, last: _Hum | None, start: int, rate_hz: int) -> np.ndarray:
    """A part without its hum, which follows from that of the part before within a moment."""
    if hum is None and last is None:
        return part
    found = hum.sound(start, start + len(part), rate_hz) if hum else np.zeros(part.shape)
    crossed = min(round(_CROSSED_S * rate_hz), len(part)) if start else 0
    if crossed:
        share = ((np.arange(crossed) + 0.5) / crossed)[:, None]
        before = last.sound(start, start + crossed, rate_hz) if last else np.zeros((crossed, part.shape[1]))
        found[:crossed] = share * found[:crossed] + (1 - share) * before
    told: np.ndarray = (part - found).astype(np.float32)
    return told


def _found(heard: np.ndarray, origin: int, rate_hz: int) -> _Hum | None:
    """The hum of a stretch, from all that is heard of it."""
    divisor = max(1, rate_hz // _SLOW_HZ)
    slow = scipy.signal.resample_poly(heard.astype(np.float64), 1, divisor, axis=0)
    slow_hz = rate_hz / divisor
    if len(slow) < slow_hz:
        return None
    mono = slow.mean(axis=1)
    window = max(1, round(_LEVEL_S * slow_hz))
    level = scipy.ndimage.uniform_filter1d(np.square(slow).mean(axis=1), window, mode="nearest")
    weight = np.hanning(len(mono) + 2)[1:-1] / np.maximum(level, max(np.percentile(level, 5), _FAINTEST**2))
    # Padded so far that each two hundredth of a hertz has a bin of its own.
    spectrum = scipy.fft.rfft(mono * weight / weight.sum(), round(slow_hz / _STEP_HZ))
    power = 2 * (np.square(spectrum.real) + np.square(spectrum.imag))

    def power_at(hz: np.ndarray) -> np.ndarray:
        told: np.ndarray = power[np.rint(hz / _STEP_HZ).astype(int)]
        return told

    best: tuple[float, np.ndarray] | None = None
    for mains_hz in MAINS_HZ:
        harmonics = np.arange(1, int(min(_HIGHEST_HZ, 0.45 * slow_hz) / mains_hz) + 1)
        tried = mains_hz + np.arange(-_WITHIN_HZ, _WITHIN_HZ + _STEP_HZ / 2, _STEP_HZ)
        # Higher harmonics tell the frequency the more exactly, where they are there.
        mains = float(tried[int(power_at(np.outer(tried, harmonics)).sum(axis=1).argmax())])
        beside = np.mean([power_at(mains * harmonics + off) for off in _BESIDE_HZ], axis=0)
        found = power_at(mains * harmonics)
        ratio = found / np.maximum(beside, _FAINTEST**2)
        stands = ratio > _STANDS_OUT
        if (stands[:6].sum() > 1 or ratio[:4].max() > _ALONE) and (best is None or found[stands].sum() > best[0]):
            best = float(found[stands].sum()), mains * harmonics[stands]
    if best is None:
        return None
    hz = best[1]
    phase = 2 * np.pi * np.outer(np.arange(len(mono)) / slow_hz, hz)
    waves = np.concatenate([np.cos(phase), np.sin(phase)], axis=1)
    weighted = waves * weight[:, None]
    factors = np.linalg.solve(weighted.T @ waves, weighted.T @ slow)
    return _Hum(hz, factors, origin)
