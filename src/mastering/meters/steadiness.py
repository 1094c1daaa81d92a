"""Whether what is heard in the pauses is one room throughout, or music, or people."""

from collections.abc import Callable, Sequence

import numpy as np
import scipy

from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, powers
from mastering.meters.speech import spoken_cells, threshold_between_words

VARIES_DB = 2.4
"""From so much on, what is heard in pauses is no steady noise. Found on prompts in two languages over white, pink and
brown noise, fans with a hum, rain, traffic and sixty or twenty people (0.6 to 2.0), and over six people, chords, a
piano, a plucked line and drums, 18 to 35 dB below the voice (1.9 to 9.1; six people alone lie on both sides)."""
_WINDOW_CELLS = 25
_PLACES = 10
_LEAST_APART_CELLS = 3 * CELLS_PER_SECOND
_FEWEST = 3
_FRAME_S = 0.064
_BANDS_HZ = 100.0 * 2 ** (np.arange(19) / 3)
"""Edges of thirds of octaves up to 6.4 kHz: below lie hum and steps, above them little but hiss."""
_FAINTEST = 1e-15


def pauses_to_compare(
    envelope: Envelope, within_s: Sequence[tuple[float, float]] | None = None
) -> list[tuple[float, float]]:
    """The quietest quarter of a second between words of each of up to ten parts of a recording: (start, end), seconds.

    `within_s` are the only stretches they may lie in.
    """
    threshold = threshold_between_words(envelope.weighted)
    if threshold is None or len(envelope) < _WINDOW_CELLS:
        return []
    part = max(_LEAST_APART_CELLS, -(-len(envelope) // _PLACES))
    found = []
    for start in range(0, len(envelope), part):
        cells = slice(start, start + part)
        power = powers(envelope.power[cells])
        # What is digital silence is no room, and what is spoken none either.
        busy = spoken_cells(envelope.weighted[cells], threshold) | (power == 0)
        if within_s is not None:
            times = (start + np.arange(len(power))) / CELLS_PER_SECOND
            busy |= ~np.any([(times >= low) & (times < high) for low, high in within_s], axis=0)
        if len(power) < _WINDOW_CELLS:
            continue
        window = np.ones(_WINDOW_CELLS)
        level = np.where(np.convolve(busy, window, "valid") > 0, np.inf, np.convolve(power, window, "valid"))
        at = int(level.argmin())
        if np.isfinite(level[at]):
            found.append(((start + at) / CELLS_PER_SECOND, (start + at + _WINDOW_CELLS) / CELLS_PER_SECOND))
    return found


def unsteadiness_db(
    pauses: Sequence[tuple[float, float]], heard: Callable[[int, int], np.ndarray], sample_rate_hz: int
) -> float | None:
    """By how much the spectra of pauses differ from their common one, whatever their level; None of fewer than three.

    The RMS difference over thirds of octaves of the middlemost pause, dB: one that a breath lies in changes little.

    Parameters
    ----------
    pauses
        What `pauses_to_compare` found.
    heard
        Gives the samples between two frames, float32 of shape (frames, channels).
    """
    if len(pauses) < _FEWEST:
        return None
    spectra = np.array(
        [
            _bands(heard(round(start_s * sample_rate_hz), round(end_s * sample_rate_hz)), sample_rate_hz)
            for start_s, end_s in pauses
        ]
    )
    apart = spectra - np.median(spectra, axis=0)
    apart -= np.median(apart, axis=1, keepdims=True)
    return float(np.median(np.sqrt(np.square(apart).mean(axis=1))))


def _bands(samples: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """The level of each band, dB, shape (bands,); bands beyond what the rate holds are left out."""
    size = min(1 << round(np.log2(_FRAME_S * sample_rate_hz)), len(samples))
    frames = np.lib.stride_tricks.sliding_window_view(samples.mean(axis=1), size)[:: max(1, size // 4)]
    power = np.square(np.abs(scipy.fft.rfft(frames * np.hanning(size), axis=1))).mean(axis=0)
    frequencies_hz = scipy.fft.rfftfreq(size, 1 / sample_rate_hz)
    sums = [
        power[(frequencies_hz >= low) & (frequencies_hz < high)].sum()
        for low, high in zip(_BANDS_HZ, _BANDS_HZ[1:], strict=False)
        if high <= sample_rate_hz / 2 and ((frequencies_hz >= low) & (frequencies_hz < high)).any()
    ]
    told: np.ndarray = 10 * np.log10(np.array(sums) + _FAINTEST)
    return told
