"""Sound that says what it is: one tone for each word, so that it can be told from any file which words are in it.

Nothing here is shared with what makes the files.
"""

from pathlib import Path

import numpy as np
import soundfile

WORD_S, GAP_S = 0.3, 0.5
_LEVEL, _HUSH = 0.2, 0.0006
_FIRST_HZ, _STEP_HZ = 400, 90
WORDS = 24


def spoken(*words: int, rate_hz: int = 44100, channels: int = 1, gap_s: float = GAP_S, seed: int = 1) -> np.ndarray:
    """Words by their numbers, each a tone of its own after faint noise; float32, shape (frames, channels)."""
    times = np.arange(round(WORD_S * rate_hz)) / rate_hz
    edge = np.minimum(1, np.minimum(times, times[::-1]) / 0.01)
    gap = np.zeros(round(gap_s * rate_hz))
    parts = [gap]
    for word in words:
        parts += [_LEVEL * edge * np.sin(2 * np.pi * (_FIRST_HZ + _STEP_HZ * word) * times), gap]
    mono = np.concatenate(parts) + np.random.default_rng(seed).normal(0, _HUSH, sum(map(len, parts)))
    return np.repeat(mono[:, None], channels, axis=1).astype(np.float32)


def place_of(at: int, *, rate_hz: int = 44100, gap_s: float = GAP_S) -> tuple[int, int]:
    """Where the word at a place stands in what `spoken` made, samples."""
    start = round(gap_s * rate_hz) + at * (round(WORD_S * rate_hz) + round(gap_s * rate_hz))
    return start, start + round(WORD_S * rate_hz)


def heard(path: Path) -> list[int]:
    """The words that sound in a file, in order; each is told by its tone."""
    samples, rate_hz = soundfile.read(path, dtype="float32", always_2d=True)
    return words_in(samples, rate_hz)


def words_in(samples: np.ndarray, rate_hz: int) -> list[int]:
    """The words in samples, shape (frames, channels), in order."""
    mono = samples[:, np.argmax((samples**2).sum(axis=0))] if len(samples) else np.zeros(0)
    size = round(0.05 * rate_hz)
    found, last = [], None
    levels = []
    for start in range(0, len(mono) - size + 1, size // 2):
        cell = mono[start : start + size]
        spectrum = np.abs(np.fft.rfft(cell * np.hanning(size), 4 * size))
        peak = np.argmax(spectrum) * rate_hz / (4 * size)
        levels.append((float(np.sqrt(np.mean(cell**2))), peak, spectrum.max() / (np.sqrt((spectrum**2).sum()) + 1e-12)))
    loud = 0.03 * max((level for level, *_ in levels), default=0)
    for level, peak, purity in levels:
        word = round((peak - _FIRST_HZ) / _STEP_HZ)
        near = abs(peak - _FIRST_HZ - _STEP_HZ * word) < _STEP_HZ / 4
        if level < loud or not near or purity < 0.3:
            last = None if level < loud else last
            continue
        if word != last:
            found.append(word)
        last = word
    return found
