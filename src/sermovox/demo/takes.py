"""Makes the demo recordings: synthetic speech with the faults of real takes. Run by bin/make-demo-recordings."""

import subprocess
import tempfile
from typing import Any

import numpy as np
import soundfile
import soxr
from scipy.signal import butter, sosfilt

from sermovox.demo.scenario import BOOK_SECTIONS, FOLDER, LINE_TAKES, PROGRAMME_SECTIONS, TALES_TAKE

_RATE_HZ = 44100
_BREATH_S = 0.55


def main() -> None:
    FOLDER.mkdir(exist_ok=True)
    takes: list[Any] = [*BOOK_SECTIONS, *PROGRAMME_SECTIONS, *LINE_TAKES, TALES_TAKE]
    for name, *_, voice, text in takes:
        # A seed for each file, so that one can change without the others.
        random = np.random.default_rng(sum(name.encode()))
        rate_hz = {"tides-and-talk.flac": 48000, TALES_TAKE[0]: 24000}.get(name, _RATE_HZ)
        if voice:
            samples = _read(text, voice, rate_hz)
        else:
            samples = _river(rate_hz, random) if "ambience" in name else _tune(rate_hz)
        samples = _faulty(name, samples, rate_hz, random)
        soundfile.write(FOLDER / name, samples, rate_hz, subtype="PCM_16")
        print(f"{name}: {len(samples) / rate_hz:.1f} s")


def _faulty(name: str, voice: np.ndarray, rate_hz: int, random: np.random.Generator) -> np.ndarray:
    """Give each take its own trouble."""
    hiss_dbfs = {"chapter-2.flac": -52.0, "opening-tune.flac": -90.0}.get(name, -72.0)
    if name == "chapter-1.flac":
        voice = _uneven(voice, rate_hz)
    if name == "chapter-4.flac":
        voice = _long_pause(voice, rate_hz, seconds=3.2)
    head_s, tail_s = (0.12, 0.3) if name == "opening-credits.flac" else (0.7, 1.6)
    quiet = _silence(head_s, rate_hz), _silence(tail_s, rate_hz)
    samples = np.concatenate([quiet[0], voice * 0.32, quiet[1]])
    samples += _room(len(samples), rate_hz, random) * 10 ** (hiss_dbfs / 20)
    if name == "chapter-3.flac":
        _knock(samples, at=int(0.6 * len(samples)), rate_hz=rate_hz, random=random)
    if name == "tides-and-talk.flac":
        return np.stack([samples, samples], axis=1)
    if name == "sign-off.flac":
        return np.clip(samples * 12.0, -1.0, 1.0)
    return samples


def _read(text: str, voice: str, rate_hz: int) -> np.ndarray:
    phrases = []
    for phrase in text.split("|"):
        # Each further bar makes the pause longer.
        spoken = _spoken(phrase.strip(), voice, rate_hz) if phrase.strip() else _silence(1.3, rate_hz)
        phrases += [spoken, _silence(_BREATH_S, rate_hz)]
    return _with_breath(np.concatenate(phrases[:-1]), rate_hz)


def _with_breath(voice: np.ndarray, rate_hz: int) -> np.ndarray:
    """The synthesiser ends at 8 kHz or lower; what a mouth gives above is made of noise that follows the voice."""
    random = np.random.default_rng(len(voice))
    band = butter(2, min(2500, rate_hz / 5), "high", fs=rate_hz, output="sos")
    follows = sosfilt(butter(1, 30, "low", fs=rate_hz, output="sos"), np.abs(voice))
    return voice + 0.08 * np.maximum(follows, 0) * sosfilt(band, random.standard_normal(len(voice)))


def _spoken(phrase: str, voice: str, rate_hz: int) -> np.ndarray:
    with tempfile.NamedTemporaryFile(suffix=".wav") as file:
        subprocess.run(["flite", "-voice", voice, "-t", phrase, "-o", file.name], check=True)
        samples, spoken_hz = soundfile.read(file.name, dtype="float64")
    # The synthesiser's own silence before and after goes, so that pauses are what the text says.
    loud = np.flatnonzero(np.abs(samples) > 0.004)
    return soxr.resample(samples[loud[0] : loud[-1]], spoken_hz, rate_hz, quality="VHQ")


def _tune(rate_hz: int) -> np.ndarray:
    """Eight bars for a struck glass: decaying partials on a five-note scale."""
    notes = [0, 4, 7, 9, 12, 9, 7, 4, 2, 7, 9, 14, 12, 9, 7, 0]
    samples = np.zeros(int(11.0 * rate_hz))
    for place, note in enumerate(notes):
        start = int(place * 0.55 * rate_hz)
        times = np.arange(int(2.2 * rate_hz)) / rate_hz
        pitch_hz = 330 * 2 ** (note / 12)
        partials = [np.sin(2 * np.pi * pitch_hz * k * times) * np.exp(-times * (1.8 + k)) / k for k in (1, 2.76, 5.4)]
        tone = np.sum(partials, axis=0)
        stop = min(len(samples), start + len(tone))
        samples[start:stop] += 0.4 * tone[: stop - start]
    return samples


def _river(rate_hz: int, random: np.random.Generator) -> np.ndarray:
    """Water under a bridge: noise that swells and sinks."""
    times = np.arange(4 * rate_hz) / rate_hz
    return 0.1 * _room(len(times), rate_hz, random) * (1 + 0.5 * np.sin(2 * np.pi * 0.4 * times))


def _room(length: int, rate_hz: int, random: np.random.Generator) -> np.ndarray:
    """Room tone: noise with more bass than treble, at an RMS of 1."""
    noise = sosfilt(butter(1, 500, "low", fs=rate_hz, output="sos"), random.standard_normal(length))
    noise += 0.06 * random.standard_normal(length)
    return noise / np.sqrt(np.mean(noise**2))


def _uneven(voice: np.ndarray, rate_hz: int) -> np.ndarray:
    """The reader leans back in the middle of the take and forward again."""
    times = np.arange(len(voice)) / rate_hz
    return voice * 10 ** (-5 * (1 - np.cos(2 * np.pi * times / times[-1])) / 2 / 20)


def _long_pause(voice: np.ndarray, rate_hz: int, *, seconds: float) -> np.ndarray:
    """Somebody came to the door: the longest gap in the second half grows."""
    window = int(0.3 * rate_hz)
    loudness = np.convolve(np.abs(voice), np.ones(window), mode="same")
    middle = len(voice) // 2
    at = middle + int(np.argmin(loudness[middle:-window]))
    return np.concatenate([voice[:at], _silence(seconds, rate_hz), voice[at:]])


def _knock(samples: np.ndarray, *, at: int, rate_hz: int, random: np.random.Generator) -> None:
    """A chair against a desk."""
    times = np.arange(int(0.12 * rate_hz)) / rate_hz
    thud = np.sin(2 * np.pi * 90 * times) * np.exp(-times * 45) + 0.3 * random.standard_normal(len(times)) * np.exp(
        -times * 160
    )
    samples[at : at + len(thud)] += 0.75 * thud


def _silence(seconds: float, rate_hz: int) -> np.ndarray:
    return np.zeros(int(seconds * rate_hz))


if __name__ == "__main__":
    main()
