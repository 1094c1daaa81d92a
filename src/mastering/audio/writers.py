"""Samples out: one class per family of formats behind `open_writer`."""

import errno
import os
import tempfile
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import Any, Protocol

import av
import numpy as np
import soundfile

from mastering.audio.encodings import Encoding
from mastering.audio.formats import CONSTANT, INT_16, written_in
from mastering.audio.libav import LibavWriter
from mastering.audio.mp3 import Listener, Mp3Writer
from mastering.audio.reader import Reader
from mastering.audio.wav import Broadcast, WavWriter
from mastering.certain import certain
from mastering.errors import said_of


class Writer(Protocol):
    """Takes blocks of what `Encoding.holds` says, shape (frames, channels); `close` completes the file."""

    def write(self, block: np.ndarray) -> None: ...

    def close(self) -> None: ...


def open_writer(
    path: Path,
    encoding: Encoding,
    *,
    frames: int = 0,
    broadcast: Broadcast | None = None,
    chapters: Sequence[Any] = (),
    listener: Listener | None = None,
) -> Writer:
    """Start a file at `path`, which must not exist.

    `frames` says how many samples will come at most, for containers that differ by their size; `broadcast` what the
    description of a BWF says. `chapters` (start_s, end_s, title) go into MP4, which takes them while it is written.
    `listener` hears a file while it is written, where `can_be_overheard` says that this is possible.
    """
    container = written_in(encoding.container)
    if container.writer == "wav":
        return WavWriter(path, encoding, frames=frames, broadcast=broadcast)
    if encoding.codec == "vorbis":
        return VorbisWriter(path, encoding)
    if _by_lame(encoding):
        return Mp3Writer(path, encoding, listener=listener)
    return LibavWriter(path, encoding, chapters=chapters if container.is_mp4 else ())


def can_be_overheard(encoding: Encoding) -> bool:
    """Whether a file of this kind can be heard while it is written, as `Overheard` does: not through Windows' sockets,
    which are no files.
    """
    return os.name == "posix" and _by_lame(encoding)


def _by_lame(encoding: Encoding) -> bool:
    return written_in(encoding.container).writer == "mp3" and not _plain_stereo(encoding)


def _plain_stereo(encoding: Encoding) -> bool:
    """Both channels by themselves, which one of the ways to LAME cannot be told."""
    return encoding.channels == 2 and not encoding.joint and encoding.mode == CONSTANT


class VorbisWriter:
    """Ogg Vorbis by quality, through libsndfile: libav's own encoder is a trial."""

    def __init__(self, path: Path, encoding: Encoding):
        self._path, self._encoded = path, path.with_name(path.name + ".encoded")
        path.open("xb").close()
        self._file = soundfile.SoundFile(
            self._encoded,
            "x",
            encoding.sample_rate_hz,
            encoding.channels,
            subtype="VORBIS",
            format="OGG",
            # It is told how strongly to compress, 0 to 1.
            compression_level=certain(encoding.quality) / 10,
        )

    def write(self, block: np.ndarray) -> None:
        try:
            self._file.write(block)
        except soundfile.LibsndfileError as error:
            raise OSError(errno.EIO, said_of(error, self._encoded)) from error

    def close(self) -> None:
        try:
            self._file.close()
            self._copy()
        finally:
            self._encoded.unlink(missing_ok=True)

    def _copy(self) -> None:
        """Put the packets into pages anew: libsndfile gives each stream a random number, and no two files are alike."""
        with (
            av.open(str(self._encoded.absolute())) as given,
            av.open(str(self._path.absolute()), "w", format="ogg", container_options={"fflags": "bitexact"}) as made,
        ):
            stream = made.add_stream_from_template(given.streams.audio[0])
            for packet in given.demux(audio=0):
                if packet.dts is not None:
                    packet.stream = stream
                    made.mux(packet)


@cache
def encoder_gain_db(encoding: Encoding) -> float:
    """How much louder or quieter an encoder makes what it is given, dB.

    At its lower constant bitrates LAME quietly scales its input by about 0.95. Found by encoding one second
    of a 1 kHz tone and decoding it, so that it holds for whatever encoder is installed.
    """
    if not encoding.lossy:
        return 0.0
    times = np.arange(encoding.sample_rate_hz) / encoding.sample_rate_hz
    tone = (0.1 * np.sin(2 * np.pi * 1000 * times)).astype(np.float32)
    if encoding.holds == INT_16:
        tone = np.rint(tone * 32768).astype(np.int16)
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
