"""Several versions of one stretch made ready to be compared by ear: in step to the sample, and equally loud."""

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import scipy

from mastering.audio.convert import resampled, to_channels, to_held
from mastering.audio.encodings import Encoding
from mastering.audio.formats import INT_16
from mastering.audio.reader import Reader
from mastering.audio.writers import encoder_gain_db, open_writer
from mastering.before_after import loudness_db
from mastering.meters.decibels import amplitude_of_db

RATE_HZ = 48000
CHANNELS = 2
"""All versions are heard so: a mono one from both sides."""
APART_S = 0.15
"""So far a version may lie from where it is expected."""
_ALIKE = 0.2
"""Below this correlation two stretches are not the same sound, and nothing is moved."""
_LEAD_S = 0.5
_LOWEST_HZ = 100.0
_TOLD_BY_S = 2.5


@dataclass(frozen=True)
class Version:
    """One version of a stretch: float32 samples of shape (frames, 2) at RATE_HZ, in step with the others.

    `later_s` is by how much it lay later than expected, `loudness_lufs` how loud the stretch is in it. Where it is not
    `alike` it is not the same sound, and lies where it was expected.
    """

    samples: np.ndarray
    later_s: float
    loudness_lufs: float
    alike: bool = True


def of_file(path: Path, start_s: float, length_s: float) -> np.ndarray:
    """A stretch of a file with APART_S more on either side, shape (frames, 2), at RATE_HZ; silence beyond its ends.

    Raises UnreadableRecording.
    """
    with Reader(path) as reader:
        rate_hz = reader.sample_rate_hz
        first, stop = round((start_s - APART_S) * rate_hz), round((start_s + length_s + APART_S) * rate_hz)
        blocks = list(to_channels(reader.stretch(max(0, first), max(0, stop), nearly=True), min(2, reader.channels)))
    return _fitted(blocks, rate_hz, before=max(0, -first), frames=_frames(length_s + 2 * APART_S))


def of_samples(samples: np.ndarray, rate_hz: int, length_s: float) -> np.ndarray:
    """Samples of shape (frames, channels) as `of_file` gives them, without more on either side."""
    return _fitted([samples], rate_hz, before=0, frames=_frames(length_s))


def encoded(samples: np.ndarray, rate_hz: int, encoding: Encoding, length_s: float) -> np.ndarray:
    """What becomes of samples of shape (frames, channels) once they are encoded and decoded, as `of_file` gives it.

    What is heard begins some way into what is encoded, as an encoder takes a moment to settle.
    """
    lead = np.zeros((round(_LEAD_S * encoding.sample_rate_hz), encoding.channels), np.float32)
    blocks = to_channels(iter([np.asarray(samples, np.float32)]), encoding.channels)
    blocks = resampled(blocks, from_hz=rate_hz, to_hz=encoding.sample_rate_hz, channels=encoding.channels)
    whole = np.concatenate([lead, *blocks, lead])
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"trial.{encoding.extension}"
        writer = open_writer(path, encoding, frames=len(whole))
        gain = amplitude_of_db(-encoder_gain_db(encoding))
        for block in to_held(iter([whole]), holds=encoding.holds, dither=encoding.holds == INT_16, gain=gain):
            writer.write(block)
        writer.close()
        return of_file(path, _LEAD_S, length_s)


def in_step(versions: Sequence[np.ndarray], length_s: float) -> list[Version]:
    """Versions beside the first: each is moved to where it sounds together with it.

    Parameters
    ----------
    versions
        The first of just the stretch, as of `of_samples`; others may have APART_S more on either side. How far they lie
        from it is found by correlating both without what lies below speech (the highest of the cross-correlation).
    """
    frames = _frames(length_s)
    first = versions[0][:frames]
    found = [Version(first, 0.0, loudness_db(first, RATE_HZ))]
    for other in versions[1:]:
        beside = (len(other) - frames) // 2
        later, alike = _later(first, other) if beside > 0 else (0, True)
        moved = other[beside + later : beside + later + frames]
        found.append(Version(moved, later / RATE_HZ, loudness_db(moved, RATE_HZ), alike))
    return found


def gains_db(versions: Sequence[Version]) -> list[float]:
    """What makes all as loud as the quietest, dB: nothing is made louder, so that nothing clips."""
    quietest = min(version.loudness_lufs for version in versions)
    return [quietest - version.loudness_lufs for version in versions]


def by_guessing(right: int, rounds: int) -> float:
    """How likely so many right answers out of two are, or more, for somebody who guesses: the upper tail of the
    binomial distribution.

    >>> round(by_guessing(9, 10), 4), round(by_guessing(12, 16), 4), by_guessing(0, 5)
    (0.0107, 0.0384, 1.0)
    """
    return float(scipy.stats.binom.sf(right - 1, rounds, 0.5))


def _frames(length_s: float) -> int:
    return round(length_s * RATE_HZ)


def _fitted(blocks: Sequence[np.ndarray], rate_hz: int, *, before: int, frames: int) -> np.ndarray:
    """Blocks of one or two channels at RATE_HZ in two, after so much silence at their own rate, and so long."""
    channels = blocks[0].shape[1] if blocks else CHANNELS
    silence = np.zeros((before, channels), np.float32)
    given = resampled(iter([silence, *blocks]), from_hz=rate_hz, to_hz=RATE_HZ, channels=channels)
    sound = np.concatenate([np.zeros((0, channels), np.float32), *given])[:frames]
    told = np.zeros((frames, CHANNELS), np.float32)
    told[: len(sound)] = sound
    return told


def _later(first: np.ndarray, other: np.ndarray) -> tuple[int, bool]:
    """By how many samples the same sound lies later in another that reaches as far beyond the first on either side, and
    whether it is the same at all. The loudest seconds of it tell.
    """
    sos = scipy.signal.butter(2, _LOWEST_HZ, "highpass", fs=RATE_HZ, output="sos").astype(np.float32)
    mono = [scipy.signal.sosfilt(sos, each.mean(axis=1, dtype=np.float32)) for each in (first, other)]
    beside, length = (len(other) - len(first)) // 2, min(len(first), round(_TOLD_BY_S * RATE_HZ))
    begins = int(_energies(mono[0], length).argmax())
    sought, among = mono[0][begins : begins + length], mono[1][begins : begins + length + 2 * beside]
    found = scipy.signal.correlate(among, sought, mode="valid", method="fft")
    alike = found / np.sqrt(np.maximum(_energies(among, length) * (sought.astype(np.float64) ** 2).sum(), 1e-20))
    best = int(alike.argmax())
    return (best - beside, True) if alike[best] >= _ALIKE else (0, False)


def _energies(samples: np.ndarray, length: int) -> np.ndarray:
    """The energy of every stretch of this length, shape (len(samples) - length + 1,)."""
    summed = np.concatenate([[0.0], np.cumsum(samples.astype(np.float64) ** 2)])
    told: np.ndarray = summed[length:] - summed[:-length]
    return told
