"""Takes of one line that follow each other: found by how they sound, the last good one proposed.

Utterances are held against those that come soon after, by dynamic time warping over mel-frequency cepstra, so it does
not matter how fast or how loud each was spoken. The end is left open: a false start is the beginning of its line.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import scipy

from mastering.audio.convert import resampled, to_channels
from mastering.audio.reader import Reader
from mastering.editing.pauses import Pauses
from mastering.meters.measurement import Progress, watched
from mastering.meters.mel import mel_bank

_RATE_HZ = 8000
_HOP_S = 0.016
_WINDOW = 256
_BANDS = 24
_LOWEST_HZ = 100
_COEFFICIENTS = 13
_LONGEST_S = 30.0
"""An utterance is compared by its first so many seconds."""
_AHEAD = 3
"""How many utterances after it each is held against."""
_SHORTEST_S = 0.25
_COUGH_S = 0.6
_LOOKED_AT_ROWS = 8
"""How often it is looked at whether two utterances are known to be unlike."""
_WHOLE = 0.7
"""A take shorter than this share of its line's longest is a false start."""
_ALIKE = 0.26
"""Mean distance below which two utterances are the same words. Prompts that one speaker recorded twice lie at 0.12 to
0.27; of 4000 pairs of different ones a thousandth lies below 0.26."""


@dataclass(frozen=True)
class Take:
    """One take, seconds; `whole` is False for a false start."""

    start_s: float
    end_s: float
    whole: bool


@dataclass(frozen=True)
class Retake:
    """The takes of one line, in order, and which is proposed: the last whole one."""

    takes: tuple[Take, ...]
    proposed: int


def find_retakes(
    path: Path, pauses: Pauses, *, apart_s: float = 0.4, progress: Progress = lambda share: None
) -> list[Retake]:
    """Find lines that were spoken more than once in a row.

    Parameters
    ----------
    pauses
        The recording's pauses.
    apart_s
        Takes are apart at pauses of at least this length.

    Raises
    ------
    UnreadableRecording, Cancelled
    """
    utterances = _utterances(pauses, apart_s)
    if len(utterances) < 2:
        return []
    features = list(_features(path, utterances, progress))

    def alike(one: int, other: int) -> bool:
        return other < len(utterances) and distance(features[one], features[other], most=_ALIKE) < _ALIKE

    found, at = [], 0
    while at < len(utterances):
        firsts = [at]
        while (lag := _lag(firsts, utterances, alike)) is not None:
            firsts.append(firsts[-1] + lag)
        end = firsts[-1] + 1
        if len(firsts) > 1:
            # Of the last take as much belongs to it as its first had.
            while end - firsts[-1] < firsts[1] - at and alike(at + end - firsts[-1], end):
                end += 1
            edges = [*firsts, end]
            takes = [(utterances[a][0], utterances[b - 1][1]) for a, b in zip(edges, edges[1:], strict=False)]
            found.append(_retake(takes))
        at = end
    return found


def _lag(firsts: list[int], utterances: list[tuple[float, float]], alike: Callable[[int, int], bool]) -> int | None:
    """How many utterances on the next take of a line begins, whose takes so far began at `firsts`.

    A line with a pause in it has several utterances, and all of them come again; a cough between does not.
    """
    for lag in range(1, _AHEAD + 1):
        start = firsts[-1]
        if any(alike(first, start + lag) for first in firsts):
            between = range(start + 1, start + lag)
            if all(alike(at, at + lag) or utterances[at][1] - utterances[at][0] < _COUGH_S for at in between):
                return lag
    return None


def distance(one: np.ndarray, other: np.ndarray, *, most: float = np.inf) -> float:
    """How unlike two utterances are, by features of shape (frames, n): 0 for the same, about 1 for others.

    The shorter is aligned to the beginning of the longer, step by step; neither is taken to be more than twice as fast.
    Infinite as soon as it is known to be `most` or more.
    """
    if len(one) > len(other):
        one, other = other, one
    rows, columns = len(one), min(len(other), 2 * len(one))
    apart = 1 - one @ other[:columns].T
    before, last, now = (np.full(columns + 2, np.inf) for _ in range(3))
    stepped = np.empty(columns)
    # Steps (1, 1), (1, 2) and (2, 1), the last counted for both its rows, look at earlier rows alone.
    for row in range(rows):
        if row == 0:
            now[2] = apart[0, 0]
        else:
            np.add(before[1:-1], apart[row], out=stepped)
            np.minimum(stepped, last[:-2], out=stepped)
            np.minimum(stepped, last[1:-1], out=stepped)
            np.add(stepped, apart[row], out=now[2:])
        before, last, now = last, now, before
        if row % _LOOKED_AT_ROWS == 0 and min(before.min(), last.min()) >= most * rows:
            return float(np.inf)
    return float(last.min() / rows)


def _utterances(pauses: Pauses, apart_s: float) -> list[tuple[float, float]]:
    """What is spoken between pauses of at least this length: start and end, seconds."""
    long = pauses.lengths_s >= apart_s
    edges = [0.0]
    for start, end in zip(pauses.starts_s[long], pauses.ends_s[long], strict=True):
        edges += [float(start), float(end)]
    edges.append(pauses.duration_s)
    found = zip(edges[::2], edges[1::2], strict=True)
    return [(start, end) for start, end in found if end - start >= _SHORTEST_S]


def _retake(utterances: list[tuple[float, float]]) -> Retake:
    longest = max(end - start for start, end in utterances)
    takes = tuple(Take(start, end, whole=end - start >= _WHOLE * longest) for start, end in utterances)
    return Retake(takes, max(at for at, take in enumerate(takes) if take.whole))


def _features(path: Path, utterances: list[tuple[float, float]], progress: Progress) -> Iterator[np.ndarray]:
    """For each utterance unit vectors of its mel cepstra, float32, shape (frames, 2 * (_COEFFICIENTS - 1))."""
    hop = round(_HOP_S * _RATE_HZ)
    window = np.hanning(_WINDOW).astype(np.float32)
    bank = mel_bank(_BANDS, lowest_hz=_LOWEST_HZ, highest_hz=_RATE_HZ / 2, window=_WINDOW, rate_hz=_RATE_HZ)
    with Reader(path) as reader:
        for samples in _spoken(reader, utterances, progress):
            samples = np.pad(samples, (0, max(0, _WINDOW - len(samples))))
            frames = np.lib.stride_tricks.sliding_window_view(samples, _WINDOW)[::hop] * window
            power = np.abs(np.fft.rfft(frames, axis=1)) ** 2 @ bank
            # What is 50 dB below the loudest says nothing about the words.
            logs = np.log(np.maximum(power, power.max(initial=1e-12) * 1e-5))
            cepstra = scipy.fft.dct(logs, axis=1, norm="ortho")[:, 1:_COEFFICIENTS]
            cepstra -= cepstra.mean(axis=0)
            both = np.concatenate([cepstra, 2 * np.gradient(cepstra, axis=0) if len(cepstra) > 1 else cepstra], axis=1)
            yield (both / np.maximum(np.linalg.norm(both, axis=1, keepdims=True), 1e-9)).astype(np.float32)
    progress(1.0)


def _spoken(reader: Reader, utterances: list[tuple[float, float]], progress: Progress) -> Iterator[np.ndarray]:
    """The samples of each utterance at the lower rate, mono, shape (frames,); the recording is read once."""
    blocks = to_channels(watched(reader, progress=progress), 1)
    lower = resampled(blocks, from_hz=reader.sample_rate_hz, to_hz=_RATE_HZ, channels=1, quality="MQ")
    held, at = np.empty(0, np.float32), 0
    for start, end in utterances:
        first, stop = round(start * _RATE_HZ), round(min(end, start + _LONGEST_S) * _RATE_HZ)
        while at + len(held) < stop and (block := next(lower, None)) is not None:
            kept = held[max(0, first - at) :]
            at += len(held) - len(kept)
            held = np.concatenate([kept, block[:, 0]])
        yield held[max(0, first - at) : stop - at]
