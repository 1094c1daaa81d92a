"""Human voices with their texts, as Debian's asterisk-core-sounds-LL and -LL-wav carry them, joined with known gaps."""

import gzip
import re
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path

import numpy as np
import scipy
import soundfile
from rapidfuzz import fuzz

RATE_HZ = 8000
_SOUNDS = Path("/usr/share/asterisk/sounds")
_READERS = {"en": "en_US_f_Allison", "fr": "fr_CA_f_June", "it": "it_IT_m_Carlo"}
LANGUAGES = tuple(_READERS)
_LINE = re.compile(r"^([\w/-]+):\s*([^\[(]+)$")
_CELL = RATE_HZ // 100
_FAINTEST = 1e-4
_SILENCE = 1e-3
_NEARLY_THE_SAME = 80
"""Per cent."""


@dataclass(frozen=True)
class Prompt:
    """One line and its sound without silence around it, float32, shape (frames,)."""

    text: str
    samples: np.ndarray


@dataclass(frozen=True)
class Place:
    """Where something was put: the number of its line, None for what is in no script; whether all of it, seconds."""

    line: int | None
    start_s: float
    end_s: float
    whole: bool


@dataclass(frozen=True)
class Take:
    """A recording, shape (frames,), its script, and the truth."""

    samples: np.ndarray
    lines: list[str]
    places: list[Place]

    def last_whole(self) -> dict[int, Place]:
        return {place.line: place for place in self.places if place.whole and place.line is not None}

    def write(self, path: Path) -> Path:
        soundfile.write(path, self.samples * min(1.0, 0.9 / np.abs(self.samples).max()), RATE_HZ)
        return path


def texts_of(language: str) -> Path:
    return Path(f"/usr/share/doc/asterisk-core-sounds-{language}/core-sounds-{language}.txt.gz")


def there() -> bool:
    return all(texts_of(language).exists() and (_SOUNDS / reader).exists() for language, reader in _READERS.items())


@cache
def prompts(language: str, least_s: float = 1.3, most_s: float = 90.0) -> list[Prompt]:
    """All prompts of these lengths that hold nothing but words."""
    found = []
    for line in gzip.decompress(texts_of(language).read_bytes()).decode("utf-8", "replace").split("\n"):
        named = _LINE.match(line)
        path = _SOUNDS / _READERS[language] / f"{named[1]}.wav" if named else None
        if path and path.exists() and len(named[2].strip()) > 4:
            samples = _trimmed(soundfile.read(path, dtype="float32")[0])
            if least_s <= len(samples) / RATE_HZ <= most_s:
                found.append(Prompt(named[2].strip(), samples))
    return found


@cache
def unlike(language: str) -> list[Prompt]:
    """Those of a line's length of which no two say nearly the same: read after one another, they would be retakes."""
    kept: list[Prompt] = []
    for prompt in prompts(language):
        if all(fuzz.ratio(prompt.text.lower(), other.text.lower()) < _NEARLY_THE_SAME for other in kept):
            kept.append(prompt)
    return kept


def joined(
    language: str,
    lines: int = 80,
    *,
    seed: int = 1,
    false_starts: float = 0.0,
    repeats: float = 0.0,
    left_out_every: int = 0,
    added_every: int = 0,
    snr_db: float = 30.0,
) -> Take:
    """A take of so many lines in order, with gaps of 0.3 to 1.2 s, over white noise."""
    random = np.random.default_rng(seed)
    pool = unlike(language)
    order = random.permutation(len(pool))
    chosen, others = [pool[at] for at in order[:lines]], [pool[at] for at in order[lines:]]
    parts, places, length = [], [], 0

    def put(samples: np.ndarray, line: int | None, *, whole: bool) -> None:
        nonlocal length
        gap = np.zeros(int(random.uniform(0.3, 1.2) * RATE_HZ), np.float32)
        parts.extend([gap, samples])
        places.append(Place(line, (length + len(gap)) / RATE_HZ, (length + len(gap) + len(samples)) / RATE_HZ, whole))
        length += len(gap) + len(samples)

    for line, prompt in enumerate(chosen):
        if left_out_every and line % left_out_every == left_out_every - 1:
            continue
        if random.random() < false_starts:
            put(prompt.samples[: int(len(prompt.samples) * random.uniform(0.3, 0.7))], line, whole=False)
        put(prompt.samples, line, whole=True)
        if random.random() < repeats:
            put(prompt.samples, line, whole=True)
        if added_every and line % added_every == added_every // 2:
            put(others.pop(0).samples, None, whole=True)
    parts.append(np.zeros(RATE_HZ // 2, np.float32))
    return Take(over_noise(np.concatenate(parts), snr_db, seed=seed), [prompt.text for prompt in chosen], places)


def coughed(take: Take, *, seed: int = 1) -> Take:
    """The same with a cough 0.15 to 0.5 s after most readings: one or two bursts of noise from 300 to 2500 Hz."""
    random, parts, places, taken, length = np.random.default_rng(seed), [], [], 0, 0
    level = take.samples[np.abs(take.samples) > _SILENCE].std()
    band = scipy.signal.butter(2, [300, 2500], "band", fs=RATE_HZ, output="sos")
    for place in take.places:
        end, later_s = int(place.end_s * RATE_HZ), (length - taken) / RATE_HZ
        places.append(replace(place, start_s=place.start_s + later_s, end_s=place.end_s + later_s))
        added = [take.samples[taken:end]]
        if random.random() < 0.7:
            added.append(np.zeros(int(random.uniform(0.15, 0.5) * RATE_HZ), np.float32))
            for _ in range(random.integers(1, 3)):
                time_s = np.arange(int(random.uniform(0.18, 0.35) * RATE_HZ)) / RATE_HZ
                burst = scipy.signal.sosfilt(band, random.standard_normal(len(time_s))) * np.exp(-9 * time_s)
                burst *= level * random.uniform(0.5, 1.5) / burst.std()
                added += [burst.astype(np.float32), np.zeros(int(0.08 * RATE_HZ), np.float32)]
        parts += added
        taken, length = end, length + sum(map(len, added))
    samples = np.concatenate([*parts, take.samples[taken:]])
    return Take(over_noise(samples, 30.0, seed=seed), take.lines, places)


def over_noise(samples: np.ndarray, snr_db: float, *, seed: int = 1) -> np.ndarray:
    """With white noise so far below what is no silence, dB."""
    level = samples[samples != 0].std() * 10 ** (-snr_db / 20)
    return samples + np.random.default_rng(seed).standard_normal(len(samples)).astype(np.float32) * np.float32(level)


def over(samples: np.ndarray, beneath: np.ndarray, below_db: float) -> np.ndarray:
    """With something beneath it, over and over, so far below, dB, by the RMS of what is no silence."""
    level = samples[np.abs(samples) > _SILENCE].std() * 10 ** (-below_db / 20)
    under = np.resize(beneath, len(samples))
    mixed: np.ndarray = (samples + under * level / under[np.abs(under) > _SILENCE].std()).astype(np.float32)
    return mixed


def _trimmed(samples: np.ndarray) -> np.ndarray:
    """Without what lies 40 dB below the loudest hundredth of a second at either end."""
    cells = samples[: len(samples) // _CELL * _CELL].reshape(-1, _CELL)
    power = (cells**2).mean(axis=1) if len(cells) else np.zeros(1)
    loud = np.flatnonzero(power > power.max() * _FAINTEST)
    return samples[loud[0] * _CELL : (loud[-1] + 1) * _CELL] if len(loud) else samples[:0]
