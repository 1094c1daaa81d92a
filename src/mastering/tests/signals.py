"""Sounds the tests make, and real speech they find on the machine."""

import io
from functools import cache, lru_cache
from pathlib import Path

import av
import numpy as np
import soundfile
import soxr
from PIL import Image

from mastering.naming.patterns import facts_of
from mastering.outlets.filled_in import inscription_for
from mastering.outlets.outlet import Outlet
from mastering.tagging.artwork import picture_for
from mastering.tagging.inscription import Chapter

PROMPTS = Path("/usr/share/asterisk/sounds/en_US_f_Allison")
"""Debian's asterisk-core-sounds-en-wav: a human voice, 8 kHz."""
ALSA = Path("/usr/share/sounds/alsa")
"""Debian's alsa-utils: human voices, 48 kHz."""


def tone(level_dbfs: float, seconds: float, *, rate_hz: int = 48000, hz: float = 1000.0, channels: int = 2):
    """A sine of a peak level on every channel: float32, (frames, channels)."""
    times = np.arange(round(seconds * rate_hz)) / rate_hz
    samples = 10 ** (level_dbfs / 20) * np.sin(2 * np.pi * hz * times)
    return np.repeat(samples[:, None], channels, axis=1).astype(np.float32)


def silence(seconds: float, *, rate_hz: int = 48000, channels: int = 2) -> np.ndarray:
    return np.zeros((round(seconds * rate_hz), channels), np.float32)


def noise(rms_dbfs: float, seconds: float, *, rate_hz: int = 44100, seed: int = 1) -> np.ndarray:
    """White noise on one channel."""
    samples = np.random.default_rng(seed).standard_normal((round(seconds * rate_hz), 1))
    return (samples * 10 ** (rms_dbfs / 20)).astype(np.float32)


def speech(*, rate_hz: int = 44100, seconds: float = 6.0, peak: float = 0.4, seed: int = 3) -> np.ndarray:
    """Something with the shape of speech: bursts of a buzzing voice with pauses over a quiet room.

    Its pitch is no multiple of a mains frequency, or its steadiness would be that of hum.
    """
    random = np.random.default_rng(seed)
    times = np.arange(round(seconds * rate_hz)) / rate_hz
    voice = _voice(rate_hz, len(times))
    words = np.clip(np.interp(times, np.arange(0, seconds + 1, 0.25), _words(random, seconds)), 0, 1)
    words[(times < 0.7) | (times > seconds - 1.5)] = 0
    if not words.any():
        raise ValueError("No word fits into so short a time.")
    samples = voice * words
    samples *= peak / np.abs(samples).max()
    return (samples + 2e-4 * random.standard_normal(len(samples))).astype(np.float32)[:, None]


@lru_cache(maxsize=16)
def _voice(rate_hz: int, frames: int) -> np.ndarray:
    times = np.arange(frames) / rate_hz
    return sum(np.sin(2 * np.pi * 113 * k * times + k) / k for k in range(1, 25))


def _words(random: np.random.Generator, seconds: float) -> np.ndarray:
    return random.uniform(-0.6, 1.0, len(np.arange(0, seconds + 1, 0.25)))


def written(folder: Path, samples: np.ndarray, rate_hz: int = 44100, name: str = "take.wav", subtype="PCM_16") -> Path:
    """Put samples into a file and return its path."""
    path = Path(folder) / name
    soundfile.write(path, samples, rate_hz, subtype=subtype)
    return path


def written_aac(folder: Path, samples: np.ndarray, rate_hz: int = 44100, name: str = "take.m4a") -> Path:
    path = Path(folder) / name
    with av.open(str(path), "w") as container:
        stream = container.add_stream("aac", rate=rate_hz)
        stream.layout = "mono"
        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(samples.T), format="fltp", layout="mono")
        frame.sample_rate = rate_hz
        queue = av.AudioFifo()
        queue.write(frame)
        while part := queue.read(1024, partial=True):
            container.mux(stream.encode(part))
        container.mux(stream.encode())
    return path


@cache
def picture(form: str = "JPEG", side: int = 700) -> bytes:
    """A square picture that does not pack well."""
    made, random = io.BytesIO(), np.random.default_rng(side)
    Image.fromarray(random.integers(0, 255, (side, side, 3), np.uint8)).save(made, form, quality=70)
    return made.getvalue()


BOOK = {
    "title": "Ebb", "place": 3, "total": 12, "production": "The Salt Road", "author": "Ada Fenn",
    "narrator": "Ilse Ørum", "year": 2026, "language": "English", "genre": "Audiobook",
    "description": "Two lines\nof it.", "notes": "Notes.", "copyright": "© 2026", "contact": "ilse@example.org",
}  # fmt: skip
"""What is known of a section, by the fields of patterns."""


def told(outlet: Outlet, *, container: str, chapters=(), **facts) -> dict:
    """What a file of that book says for an outlet, and what its check expects: keywords of `make`."""
    (known,) = facts_of([BOOK | facts], lines=True)
    chapters = chapters or (Chapter(start_s=0, end_s=9, title="Ebb"),)
    fitted = picture_for(outlet.artwork, picture())
    given, texts = inscription_for(outlet, known, container=container, picture=fitted, chapters=chapters)
    return {"inscription": given, "texts": texts}


def real_speech() -> list[Path]:
    """At least fifty pieces of real speech of more than a second, where they are installed."""
    longest = sorted(PROMPTS.glob("*.wav"), key=lambda path: (-path.stat().st_size, path.name))[:52]
    return [*longest, *sorted(ALSA.glob("*_*.wav"))]


def encoded(
    folder: Path, samples: np.ndarray, name: str, codec: str, *, rate_hz: int = 44100, muxer: str = "", **options
) -> Path:
    """Write mono samples with one of libav's encoders. `options` are set on the encoder, such as bit_rate."""
    path = Path(folder) / name
    with av.open(str(path), "w", format=muxer or None) as container:
        stream = container.add_stream(codec, rate=rate_hz)
        stream.layout = "mono"
        for option, value in options.items():
            setattr(stream.codec_context, option, value)
        plain = np.ascontiguousarray(samples.T, np.float32)
        frame = av.AudioFrame.from_ndarray(plain, format="fltp", layout="mono")
        frame.sample_rate = rate_hz
        wanted = stream.codec_context.format.name if stream.codec_context.format else "fltp"
        queue = av.AudioFifo()
        for part in av.AudioResampler(format=wanted, layout="mono", rate=rate_hz).resample(frame):
            queue.write(part)
        stream.codec_context.open()
        while part := queue.read(stream.codec_context.frame_size or 1024, partial=True):
            part.pts = None
            container.mux(stream.encode(part))
        container.mux(stream.encode(None))
    return path


def read_aloud(
    seconds: float, *, pause_s: tuple[float, float], rate_hz: int = 44100, seed: int = 5, even: bool = False
) -> np.ndarray:
    """Debian's recorded prompts one after the other with pauses of silence between, float32, shape (n,).

    `even` takes those whose loudness range is small by itself.
    """
    random = np.random.default_rng(seed)
    # The long ones were spoken evenly; the shorter ones leave more pauses.
    prompts, parts, length = real_speech()[:30] if even else real_speech()[51::-1], [], 0
    while length < seconds * rate_hz:
        samples, own_hz = soundfile.read(prompts[len(parts) // 2 % len(prompts)], dtype="float32")
        parts += [soxr.resample(samples, own_hz, rate_hz), np.zeros(round(random.uniform(*pause_s) * rate_hz))]
        length += len(parts[-2]) + len(parts[-1])
    whole = np.concatenate(parts)[: round(seconds * rate_hz)]
    return (whole * (0.3 / np.abs(whole).max())).astype(np.float32)
