"""More of the same room: any length of it from a quiet stretch, never a loop and never digital silence.

What is steady in the stretch, such as hum, goes on as it was, in phase with itself; the rest is noise of the same
spectrum, made anew, so that it has no period however short the stretch is.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from mastering.shaping.fades import fade_gains

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
NEAR_S = 0.3
"""So much beside a join tells where hum is in its turn there; from farther away that cannot be told."""
_LEAST_TURNS = 3
_REACH_S = 0.08
_MOST_TAPS = 256
_SHARED_NOISE = 1e-7
_LOOKED_AT_S = 2.0
"""So much of a stretch tells what is steady in it."""
_SHARED = 1e-9
_WAVE_SAMPLES = 1024
_AT_A_TIME = 8
_APART_LINES = 8
_NARROWED = 64


class Room:
    """A quiet stretch, looked at once, from which any length of room tone is made.

    Parameters
    ----------
    quiet
        Float32, shape (n, channels), n ≥ 1: the stretch to learn from.
    """

    def __init__(self, quiet: np.ndarray, *, sample_rate_hz: int):
        self._length, self._rate_hz = len(quiet), sample_rate_hz
        self._steady = _Steady.of(quiet[: round(_LOOKED_AT_S * sample_rate_hz)].astype(np.float64))
        rest = quiet - self._steady.at(0, len(quiet))
        self._frame = _frame_of(len(rest), sample_rate_hz)
        self._shapes = _shapes(rest, self._frame)

    def tone(
        self, length: int, before: np.ndarray | None = None, after: np.ndarray | None = None
    ) -> Iterator[np.ndarray]:
        """Yield `length` samples that sound like the stretch, float32 blocks of shape (frames, channels).

        The same room gives the same samples. Between two sounds, of which nothing is changed, it goes on from the one
        and runs into the other: the noise is what noise of this spectrum would have been, given what sounds there
        (conditional simulation by linear prediction; common practice, no source), and hum is in phase with each.

        Parameters
        ----------
        before, after
            Float32, shape (n, channels): what sounds next to it, NEAR_S or as much as there is.
        """
        nothing = np.empty((0, self._shapes.shape[1]), np.float32)
        before, after = (nothing if sound is None else sound for sound in (before, after))
        taps = self._prediction
        order, reach = len(taps), min(length, round(_REACH_S * self._rate_hz))
        hums = self._hum_from(before, after, length)
        waiting, start = np.empty((0, self._shapes.shape[1])), -order
        added: np.ndarray | None = None
        for block in _exactly_so_much(_noise(self._shapes, self._frame), order + length + order):
            waiting = np.concatenate([waiting, block])
            if added is None and len(waiting) >= order:
                added = _continued(before[-order:] - hums(-len(before[-order:]), 0), waiting[:order], taps, reach)
                waiting, start = waiting[order:], 0
            if added is None:
                continue
            whole = start + len(waiting) == length + order
            count = length - start if whole else max(0, len(waiting) - reach - order)
            if not count:
                continue
            made = waiting[:count] + hums(start, start + count)
            # What goes on from before fades within its reach.
            here = added[start : start + count]
            made[: len(here)] += here
            if whole:
                next_to = (after[:order] - hums(length, length + len(after[:order])))[::-1]
                made[count - reach :] += _continued(next_to, waiting[count:][::-1], taps, reach)[::-1]
            yield made.astype(np.float32)
            waiting, start = waiting[count:], start + count

    def _hum_from(self, before: np.ndarray, after: np.ndarray, length: int) -> Callable[[int, int], np.ndarray]:
        """What is steady between two sounds, by frames from where the first ends: from the turn it is in there to that
        in which it is where the other begins.
        """
        first = self._steady.in_phase_with(before).moved(len(before)) if len(before) else None
        last = self._steady.in_phase_with(after).moved(-length) if len(after) else None
        first = first or last or self._steady.moved(self._length)
        last = last or first

        def hum(start: int, end: int) -> np.ndarray:
            share = np.clip((np.arange(start, end) + 0.5) / max(1, length), 0, 1)[:, None]
            return first.at(start, end - start) * (1 - share) + last.at(start, end - start) * share

        return hum

    @cached_property
    def _prediction(self) -> np.ndarray:
        """The taps that predict its noise from what was before, the next before first."""
        power = np.square(np.abs(self._shapes)).sum(axis=(1, 2))
        likeness = np.fft.irfft(power)
        order = min(_MOST_TAPS, self._frame // 4)
        if not likeness[0] > 0:
            return np.zeros(order)
        likeness[0] *= 1 + _SHARED_NOISE
        told: np.ndarray = scipy.linalg.solve_toeplitz(likeness[:order], likeness[1 : order + 1])
        return told

    def before(self, sound: np.ndarray, length: int, *, join: int, away: int) -> np.ndarray:
        """Room tone of `length` samples before a sound, and the first `join` samples of that, in which one passes into
        the other; float32, shape (length + join, channels).

        Parameters
        ----------
        sound
            Float32, shape (n, channels), n ≥ join: what follows; hum goes on in phase with it.
        away
            How many samples the sound begins after the stretch that was learned from; below 0 before it.
        """
        return self._beside(sound, length, join, away, before=True)

    def after(self, sound: np.ndarray, length: int, *, join: int, away: int) -> np.ndarray:
        """The last `join` samples of a sound, and room tone of `length` samples after it, as `before`."""
        return self._beside(sound, length, join, away, before=False)

    def _beside(self, sound: np.ndarray, length: int, join: int, away: int, *, before: bool) -> np.ndarray:
        near = min(len(sound), round(NEAR_S * self._rate_hz))
        kept = sound[:near] if before else sound[len(sound) - near :]
        steady = self._steady.moved(away if before else away + len(sound) - near).in_phase_with(kept)
        noise = _noise(self._shapes, self._frame)
        parts = [next(noise) for _ in range(-(-(length + join) // (_BLOCK_FRAMES * (self._frame // 2))))]
        made = np.concatenate([np.empty((0, sound.shape[1])), *parts])[: length + join]
        # Both are noise, which adds up by power; what is steady is in phase and adds up by itself.
        place, here = (slice(length, None), sound[:join]) if before else (slice(0, join), sound[len(sound) - join :])
        rising = fade_gains("in" if before else "out", join, 0, join)
        falling = fade_gains("out" if before else "in", join, 0, join)
        hum = steady.at(-length if before else near - join, length + join)
        made[place] = made[place] * falling + here * rising
        hum[place] *= 1 - rising
        told: np.ndarray = (made + hum).astype(np.float32)
        return told


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
            found = [_refined(rest, each) for each in _strongest(rest, _MOST_TONES + 1 - len(frequencies))]
            # Two that a stretch of this length cannot tell apart would be found huge, one against the other.
            found = [each for each in found if min(abs(each - other) for other in frequencies) > 1 / len(quiet)]
            if not found:
                break
            frequencies += found
            rest = quiet - cls._fitted(quiet, frequencies).at(0, len(quiet))
        return cls._fitted(quiet, frequencies)

    @classmethod
    def _fitted(cls, quiet: np.ndarray, frequencies: list[float]) -> "_Steady":
        """The amplitudes that leave least of a stretch, all together."""
        turns = np.array(frequencies[1:])
        waves = _waves(turns, 0, len(quiet))
        basis = np.concatenate([np.ones((len(quiet), 1)), waves.real, waves.imag], axis=1)
        # Lines that next to nothing tells apart share what they have.
        gram = basis.T @ basis
        gram[np.diag_indices_from(gram)] += _SHARED * len(quiet)
        found = np.linalg.solve(gram, basis.T @ quiet)
        count = len(turns)
        sines = found[1 : count + 1] - 1j * found[count + 1 :]
        return cls(np.array(frequencies), np.concatenate([found[:1].astype(complex), sines]))

    def moved(self, by: int) -> "_Steady":
        """The same, counted from so many samples later."""
        turned = np.exp(2j * np.pi * self.frequencies * by)
        return _Steady(self.frequencies, self.amplitudes * turned[:, None])

    def in_phase_with(self, sound: np.ndarray) -> "_Steady":
        """The same as it is in a sound, counted from its start, as far as that is long enough to tell."""
        lines = self.frequencies[1:]
        apart = np.diff(np.sort(np.concatenate([[0.0], lines]))).min(initial=np.inf)
        if not len(lines) or len(sound) * apart < _LEAST_TURNS:
            return self
        found = _Steady._fitted(sound.astype(np.float64), list(self.frequencies)).amplitudes
        # As strong as it was learned, where it is in its turn here.
        turned = np.abs(self.amplitudes) * np.exp(1j * np.angle(found))
        turned[0] = self.amplitudes[0]
        return _Steady(self.frequencies, turned)

    def at(self, start: int, count: int) -> np.ndarray:
        """What is steady from one sample on, shape (count, channels); counted from the start of the stretch."""
        told: np.ndarray = (_waves(self.frequencies, start, count) @ self.amplitudes).real
        return told


def _waves(frequencies: np.ndarray, start: int, count: int) -> np.ndarray:
    """Each frequency as it turns from one sample on, complex, shape (count, n): blocks of it are one, turned on."""
    turns = 2j * np.pi * frequencies
    block = np.exp(np.outer(np.arange(min(count, _WAVE_SAMPLES)), turns))
    starts = np.exp(np.outer(np.arange(start, start + count, _WAVE_SAMPLES), turns))
    told: np.ndarray = (starts[:, None] * block).reshape(len(starts) * len(block), len(frequencies))[:count]
    return told


def _strongest(rest: np.ndarray, most: int) -> list[float]:
    """The frequencies of the lines that stand out most, cycles per sample, none of them near another."""
    padded = _PADDED * len(rest)
    window = np.hanning(len(rest))[:, None]
    power = np.square(np.abs(np.fft.rfft(rest * window, padded, axis=0))).mean(axis=1)
    # The level around a line is the median of the lines near it, taken in steps.
    step = _AROUND_BINS * _PADDED
    filled = np.pad(power, (0, -len(power) % step), mode="edge").reshape(-1, step)
    beside = np.pad(filled, ((1, 1), (0, 0)), mode="edge")
    floors = np.median(np.concatenate([beside[:-2], filled, beside[2:]], axis=1), axis=1)
    around = np.repeat(floors, step)[: len(power)]
    standing = np.where(around > 0, power / np.maximum(around, 1e-300), 0.0)
    standing[: _PADDED + 1] = 0.0
    told: list[float] = []
    while len(told) < min(most, _AT_A_TIME):
        at = int(standing.argmax())
        if standing[at] <= 10 ** (_STANDS_OUT_DB / 10):
            break
        told.append(at / padded)
        standing[max(0, at - _APART_LINES * _PADDED) : at + _APART_LINES * _PADDED] = 0.0
    return told


def _refined(rest: np.ndarray, frequency: float) -> float:
    """The frequency near this at which most of a stretch lies, to a thousandth of a line's width."""
    window = np.hanning(len(rest))[:, None]
    # Brought down to next to nothing, where few samples tell as much.
    here = rest * window * np.exp(-2j * np.pi * frequency * np.arange(len(rest)))[:, None]
    each = max(1, len(rest) // _NARROWED)
    starts = np.arange(0, len(rest), each)
    sums = np.add.reduceat(here, starts, axis=0)
    middles = starts + (np.minimum(each, len(rest) - starts) - 1) / 2

    def strength(at: float) -> float:
        turned = sums * np.exp(-2j * np.pi * (at - frequency) * middles)[:, None]
        return float(np.square(np.abs(turned.sum(axis=0))).sum())

    width = 1 / len(rest)
    low, high = frequency - width / 2, frequency + width / 2
    for _ in range(16):
        first, second = low + (high - low) / 3, high - (high - low) / 3
        low, high = (low, second) if strength(first) > strength(second) else (first, high)
    return (low + high) / 2


def _continued(sound: np.ndarray, noise: np.ndarray, taps: np.ndarray, reach: int) -> np.ndarray:
    """What to add to noise so that it goes on from a sound: how they differ there, as linear prediction carries it on,
    let go within its reach; float32, shape (reach, channels).

    `noise` is as long as there are taps, and lies where the sound ends; the sound may be shorter, or not there at all.
    """
    if not len(sound) or not reach:
        return np.zeros((reach, noise.shape[1]))
    apart = np.zeros(noise.shape)
    apart[len(noise) - len(sound) :] = sound - noise[len(noise) - len(sound) :]
    denominator = np.concatenate([[1.0], -taps])
    state = np.stack([scipy.signal.lfiltic([1.0], denominator, column[::-1]) for column in apart.T], axis=1)
    on, _ = scipy.signal.lfilter([1.0], denominator, np.zeros((reach, noise.shape[1])), axis=0, zi=state)
    told: np.ndarray = on * fade_gains("out", reach, 0, reach)
    return told


def _exactly_so_much(blocks: Iterator[np.ndarray], count: int) -> Iterator[np.ndarray]:
    while count > 0:
        block = next(blocks)[:count]
        count -= len(block)
        yield block


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

    Its square is the mean of the cross spectra of overlapping frames (P. D. Welch, 1967), smoothed over three lines.
    What is slower than a frame is not there to be told, and nothing else is made louder for it.
    """
    channels = rest.shape[1]
    if len(rest) < frame:
        rest = np.resize(rest, (frame, channels))
    window = np.hanning(frame)[:, None]
    starts = range(0, len(rest) - frame + 1, max(1, frame // 4))
    spectra = np.stack([np.fft.rfft(rest[start : start + frame] * window, axis=0) for start in starts])
    cross = np.einsum("kfi,kfj->fij", spectra, spectra.conj()) / len(spectra)
    # The zero line is no part of it, and neither end is a neighbour of the other.
    wide = np.concatenate([cross[1:2], cross[1:2], cross[1:], cross[-1:]])
    cross = (wide[:-2] + wide[1:-1] + wide[2:]) / 3
    cross[0] = 0
    values, vectors = np.linalg.eigh(cross)
    roots = vectors * np.sqrt(np.maximum(values, 0))[:, None, :]
    # As strong as it was without the window.
    told: np.ndarray = roots / np.sqrt(np.square(window).mean())
    return told
