"""More of the same room: any length of it from a quiet stretch, never a loop and never digital silence.

What is steady in the stretch, such as hum, goes on as it was, in phase with itself; the rest is noise of the same
spectrum, made anew, so that it has no period however short the stretch is.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

_SEED = 40129
_FRAME_S = 0.09
_FEWEST_FRAMES = 4
_SHORTEST = 64
_MOST_TONES = 48
_STANDS_OUT_DB = 15.0
"""So far above its surroundings no line of a periodogram of noise comes by chance: its lines are exponentially
distributed, so that of 20,000 the highest lies 12 dB above their median (by arithmetic)."""
_AROUND_BINS = 60
_BLOCK_FRAMES = 32
_PADDED = 4


class Room:
    """A quiet stretch, looked at once, from which any length of room tone is made.

    Parameters
    ----------
    quiet
        Float32, shape (n, channels), n ≥ 1: the stretch to learn from.
    """

    def __init__(self, quiet: np.ndarray, *, sample_rate_hz: int):
        self._length = len(quiet)
        self._steady = _Steady.of(quiet.astype(np.float64))
        rest = quiet - self._steady.at(0, len(quiet))
        self._frame = _frame_of(len(rest), sample_rate_hz)
        self._shapes = _shapes(rest, self._frame)

    def tone(self, length: int) -> Iterator[np.ndarray]:
        """Yield `length` samples that sound like the stretch, float32 blocks of shape (frames, channels).

        The same room gives the same samples.
        """
        noise = _noise(self._shapes, self._frame)
        made = 0
        while made < length:
            block = next(noise)[: length - made]
            # As if the room had gone on where the stretch ends.
            yield (block + self._steady.at(self._length + made, len(block))).astype(np.float32)
            made += len(block)


@dataclass(frozen=True)
class _Steady:
    """Sines that last: frequencies in cycles per sample, shape (n,), and complex amplitudes, shape (n, channels)."""

    frequencies: np.ndarray
    amplitudes: np.ndarray

    @classmethod
    def of(cls, quiet: np.ndarray) -> "_Steady":
        """Find what stands out of a stretch, its zero line included: the strongest line first, then what is left."""
        frequencies, rest = [0.0], quiet - quiet.mean(axis=0)
        while len(quiet) >= _SHORTEST and len(frequencies) <= _MOST_TONES:
            found = _strongest(rest)
            if found is None:
                break
            frequencies.append(_refined(rest, found))
            rest = quiet - cls._fitted(quiet, frequencies).at(0, len(quiet))
        return cls._fitted(quiet, frequencies)

    @classmethod
    def _fitted(cls, quiet: np.ndarray, frequencies: list[float]) -> "_Steady":
        """The amplitudes that leave least of a stretch, all together."""
        turns = 2j * np.pi * np.array(frequencies[1:])
        waves = np.exp(np.outer(np.arange(len(quiet)), turns))
        basis = np.concatenate([np.ones((len(quiet), 1)), waves.real, waves.imag], axis=1)
        found = np.linalg.lstsq(basis, quiet, rcond=None)[0]
        count = len(turns)
        sines = found[1 : count + 1] - 1j * found[count + 1 :]
        return cls(np.array(frequencies), np.concatenate([found[:1].astype(complex), sines]))

    def at(self, start: int, count: int) -> np.ndarray:
        """What is steady from one sample on, shape (count, channels); counted from the start of the stretch."""
        places = np.arange(start, start + count)
        waves = np.exp(2j * np.pi * np.outer(places, self.frequencies))
        told: np.ndarray = (waves @ self.amplitudes).real
        return told


def _strongest(rest: np.ndarray) -> float | None:
    """The frequency of the line that stands out most, cycles per sample; None where none does."""
    padded = _PADDED * len(rest)
    window = np.hanning(len(rest))[:, None]
    power = np.square(np.abs(np.fft.rfft(rest * window, padded, axis=0))).mean(axis=1)
    # The level around a line is the median of the lines near it, taken in steps.
    step = _AROUND_BINS * _PADDED
    starts = range(0, len(power), step)
    floors = np.array([np.median(power[max(0, start - step) : start + 2 * step]) for start in starts])
    around = np.repeat(floors, step)[: len(power)]
    standing = np.where(around > 0, power / np.maximum(around, 1e-300), 0.0)
    standing[: _PADDED + 1] = 0.0
    at = int(standing.argmax())
    return at / padded if standing[at] > 10 ** (_STANDS_OUT_DB / 10) else None


def _refined(rest: np.ndarray, frequency: float) -> float:
    """The frequency near this at which most of a stretch lies, to a thousandth of a line's width."""
    window = np.hanning(len(rest))[:, None]
    times = np.arange(len(rest))

    def strength(at: float) -> float:
        return float(np.square(np.abs((rest * window * np.exp(-2j * np.pi * at * times)[:, None]).sum(axis=0))).sum())

    width = 1 / len(rest)
    low, high = frequency - width / 2, frequency + width / 2
    for _ in range(16):
        first, second = low + (high - low) / 3, high - (high - low) / 3
        low, high = (low, second) if strength(first) > strength(second) else (first, high)
    return (low + high) / 2


def _noise(shapes: np.ndarray, frame: int) -> Iterator[np.ndarray]:
    """Noise without end that has the spectrum of a stretch, and the same in common between its channels.

    Frames of random phase, laid over each other by half under a sine window, whose squares add up to one.
    """
    channels = shapes.shape[1]
    window = np.sin(np.pi * (np.arange(frame) + 0.5) / frame)[:, None]
    random = np.random.Generator(np.random.SFC64(_SEED))
    hop = frame // 2

    def shaped() -> np.ndarray:
        white = random.standard_normal((len(shapes), channels, 2)) @ np.array([1, 1j]) / np.sqrt(2)
        return np.fft.irfft(np.einsum("fij,fj->fi", shapes, white), frame, axis=0) * window

    before = shaped()
    while True:
        parts = []
        for _ in range(_BLOCK_FRAMES):
            now = shaped()
            parts.append(before[hop:] + now[:hop])
            before = now
        yield np.concatenate(parts)


def _frame_of(length: int, sample_rate_hz: int) -> int:
    """How long the frames are: an even number that goes several times into the stretch."""
    wanted = min(_FRAME_S * sample_rate_hz, length / _FEWEST_FRAMES * 2)
    return max(16, int(wanted) // 2 * 2)


def _shapes(rest: np.ndarray, frame: int) -> np.ndarray:
    """For each frequency the matrix that gives white noise the spectrum of a stretch, (lines, channels, channels).

    Its square is the mean of the cross spectra of overlapping frames (P. D. Welch, 1967), smoothed over three lines,
    and scaled so that each channel has the power it has in the stretch.
    """
    channels = rest.shape[1]
    if len(rest) < frame:
        rest = np.resize(rest, (frame, channels))
    window = np.hanning(frame)[:, None]
    starts = range(0, len(rest) - frame + 1, max(1, frame // 4))
    spectra = np.stack([np.fft.rfft(rest[start : start + frame] * window, axis=0) for start in starts])
    cross = np.einsum("kfi,kfj->fij", spectra, spectra.conj()) / len(spectra)
    cross = (cross + np.roll(cross, 1, axis=0) + np.roll(cross, -1, axis=0)) / 3
    cross[0] = 0
    lines = cross.real[:, range(channels), range(channels)]
    # The mean square of what irfft makes of these lines: each but the last counts twice.
    power = (2 * lines.sum(axis=0) - lines[-1]) / frame**2
    wanted = np.square(rest).mean(axis=0)
    scale = np.sqrt(np.divide(wanted, power, out=np.zeros(channels), where=power > 0))
    values, vectors = np.linalg.eigh(cross)
    roots = vectors * np.sqrt(np.maximum(values, 0))[:, None, :]
    told: np.ndarray = roots * scale[None, :, None]
    return told
