"""Samples out: one class per container behind `open_writer`."""

import tempfile
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Protocol

import lameenc
import numpy as np
import soundfile

from mastering.audio.reader import Reader

_LAME_QUALITY = 3
"""LAME's own choice for constant bitrates. Level 2 takes three times as long (measured by bin/bench)."""

_LAME_FRAMES = 4608
"""Samples handed over at a time: LAME works a tenth faster when its copies stay in the processor's cache."""


@dataclass(frozen=True, kw_only=True)
class Encoding:
    """What a finished file is made of."""

    container: str
    sample_rate_hz: int
    channels: int
    bit_rate_kbps: int | None = None

    @property
    def extension(self) -> str:
        return self.container

    @property
    def lossy(self) -> bool:
        return self.container == "mp3"


class Writer(Protocol):
    """Takes int16 blocks of shape (frames, channels); `close` completes the file."""

    def write(self, block: np.ndarray) -> None: ...

    def close(self) -> None: ...


def open_writer(path: Path, encoding: Encoding) -> Writer:
    """Start a file at `path`, which must not exist."""
    return {"mp3": Mp3Writer, "wav": WavWriter}[encoding.container](path, encoding)


class Mp3Writer:
    """MPEG-1 or -2 layer III at a constant bitrate, joint stereo where there are two channels."""

    def __init__(self, path: Path, encoding: Encoding):
        self._encoder = bare_lame(encoding)
        self._file = path.open("xb")

    def write(self, block: np.ndarray) -> None:
        for start in range(0, len(block), _LAME_FRAMES):
            self._file.write(self._encoder.encode(block[start : start + _LAME_FRAMES].tobytes()))

    def close(self) -> None:
        self._file.write(self._encoder.flush())
        self._file.close()


class WavWriter:
    """16-bit PCM WAV."""

    def __init__(self, path: Path, encoding: Encoding):
        self._file = soundfile.SoundFile(
            path, "x", encoding.sample_rate_hz, encoding.channels, subtype="PCM_16", format="WAV"
        )

    def write(self, block: np.ndarray) -> None:
        self._file.write(block)

    def close(self) -> None:
        self._file.close()


def bare_lame(encoding: Encoding) -> lameenc.Encoder:
    """The LAME encoder as Sermovox sets it, which bin/bench also runs by itself."""
    encoder = lameenc.Encoder()
    encoder.silence()
    encoder.set_in_sample_rate(encoding.sample_rate_hz)
    encoder.set_out_sample_rate(encoding.sample_rate_hz)
    encoder.set_channels(encoding.channels)
    encoder.set_bit_rate(encoding.bit_rate_kbps)
    encoder.set_quality(_LAME_QUALITY)
    return encoder


@cache
def encoder_gain_db(encoding: Encoding) -> float:
    """How much louder or quieter an encoder makes what it is given, dB.

    At its lower constant bitrates LAME quietly scales its input by about 0.95. Found by encoding one second
    of a 1 kHz tone and decoding it, so that it holds for whatever encoder is installed.
    """
    if not encoding.lossy:
        return 0.0
    times = np.arange(encoding.sample_rate_hz) / encoding.sample_rate_hz
    tone = np.rint(3276.8 * np.sin(2 * np.pi * 1000 * times)).astype(np.int16)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"tone.{encoding.extension}"
        writer = open_writer(path, encoding)
        writer.write(np.repeat(tone[:, None], encoding.channels, axis=1))
        writer.close()
        with Reader(path) as reader:
            decoded = np.concatenate(list(reader.blocks()))[:, 0]
    # The middle half second: the codec's own delay and the edges of the tone stay out of it.
    middle = decoded[encoding.sample_rate_hz // 4 : encoding.sample_rate_hz * 3 // 4].astype(np.float64)
    return float(10 * np.log10(np.mean(middle**2) / (0.1**2 / 2)))
