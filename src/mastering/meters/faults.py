"""What is wrong with a recording at single places: tops cut off flat at whatever level, and clicks."""

from dataclasses import dataclass

import numpy as np

from mastering.meters.clicks import clicks

_MOST_PLACES = 100
_LEAST_TOP = 0.03
_WITHIN = 3e-4
"""Of the top, or ten steps of 16 bit, whichever is more: dither moves a flat top by so little."""
_STEPS = 10 / 32768
_LEAST_RUN = 4
_STEEP = 0.995
"""Below so much of the top lies what stands beside a flat one: a slow wave is round there."""
_LIKE_LEVELS = 1.01
_FEWEST_RUNS = 5

_SAMPLE_S = 2
_FIRST_GAP_S, _GAP_GROWS = 6, 1
_FEWEST_CLICKS = 3
"""One or two may be a tick of the tongue."""


@dataclass(frozen=True)
class Flattened:
    """Tops cut off flat: how many, at which level (1.0 is full scale), and where: the first of each second, seconds."""

    count: int
    level: float
    places_s: tuple[float, ...]


class FlatTops:
    """Count tops that are cut off: several samples in a row at the very same height, with steep sides.

    What was overdriven and made quieter afterwards clips below full scale, always at one level; what is within one per
    cent of where it does so most counts. Common practice, no source.
    """

    def __init__(self, sample_rate_hz: int):
        self._rate_hz = sample_rate_hz
        self._found: list[tuple[float, int]] = []
        self._places: list[tuple[float, float]] = []

    def add(self, samples: np.ndarray, start_frame: int) -> None:
        """Take a block of shape (frames, channels); at most one level a block and channel is looked at."""
        for channel in range(samples.shape[1]):
            height = np.abs(samples[:, channel])
            top = float(height.max(initial=0.0))
            if top < _LEAST_TOP:
                continue
            near = height >= top - max(_WITHIN * top, _STEPS)
            if np.count_nonzero(near) < _LEAST_RUN:
                continue
            near = np.concatenate([[False], near, [False]])
            edges = np.flatnonzero(np.diff(near.astype(np.int8)))
            starts, stops = edges[::2], edges[1::2]
            whole = (stops - starts >= _LEAST_RUN) & (starts > 0) & (stops < len(height))
            starts, stops = starts[whole], stops[whole]
            steep = (height[starts - 1] < _STEEP * top) & (height[stops] < _STEEP * top)
            if steep.any():
                self._found.append((top, int(steep.sum())))
                frames = start_frame + starts[steep]
                _, first = np.unique(frames // self._rate_hz, return_index=True)
                room = max(0, _MOST_PLACES - len(self._places))
                self._places += [(top, at / self._rate_hz) for at in frames[first][:room]]

    def flattened(self) -> Flattened | None:
        """What was found, if it is more than chance."""
        if not self._found:
            return None
        tops, counts = (np.array(column, float) for column in zip(*self._found, strict=True))
        at_level = [counts[(tops < _LIKE_LEVELS * top) & (tops > top / _LIKE_LEVELS)].sum() for top in tops]
        level, count = float(tops[int(np.argmax(at_level))]), int(max(at_level))
        if count < _FEWEST_RUNS:
            return None
        near = [at for top, at in self._places if level / _LIKE_LEVELS < top < level * _LIKE_LEVELS]
        # Of both sides, the first in each second.
        places = {int(at): at for at in sorted(near, reverse=True)}
        return Flattened(count, level, tuple(round(at, 3) for at in sorted(places.values())))


class ClickSampler:
    """Count clicks in stretches of two seconds: close to each other at first, then ever further apart, so that an hour
    costs little more than some minutes.
    """

    def __init__(self, sample_rate_hz: int):
        self._rate_hz = sample_rate_hz
        self._next_s = 0
        self._at_s = 0
        self._parts: list[np.ndarray] = []
        self._seconds = 0.0
        self._clicks = 0

    def add(self, mono: np.ndarray) -> None:
        """Take whole seconds of the mean of all channels, shape (frames,); the last may be less than one."""
        for start in range(0, len(mono), self._rate_hz):
            if self._at_s >= self._next_s:
                self._parts.append(mono[start : start + self._rate_hz])
                if len(self._parts) == _SAMPLE_S:
                    self._count()
                    self._next_s = self._at_s + 1 + max(_FIRST_GAP_S, int(self._at_s * _GAP_GROWS))
            self._at_s += 1

    def per_minute(self) -> float | None:
        """How many there are in a minute; None where hardly anything was listened to. Call once, at the end."""
        self._count()
        if self._seconds < 1:
            return None
        return 60 * self._clicks / self._seconds if self._clicks >= _FEWEST_CLICKS else 0.0

    def _count(self) -> None:
        if self._parts:
            heard = np.concatenate(self._parts)
            self._clicks += len(clicks(heard, self._rate_hz))
            self._seconds += len(heard) / self._rate_hz
            self._parts = []
