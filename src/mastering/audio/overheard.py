"""An MP3 heard while it is written: decoded a little behind the encoder, by a library that had no part in it."""

import hashlib
import socket
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

import numpy as np
import soundfile

from mastering.audio.encodings import Encoding
from mastering.audio.facts import FileFacts
from mastering.audio.mp3 import ENCODER_DELAY
from mastering.audio.reader import BLOCK_FRAMES, Reader

_DECODER_DELAY = 529
"""Samples any decoder of layer III puts before the first (ISO/IEC 11172-3, 2.4.3.4; the number from memory)."""
_MOST_PADDING = 4095
"""Samples at the end that are none of the recording's: so many a header frame can tell of (12 bits)."""


class Overheard:
    """Decodes in a thread of its own what `put` is given, and hands `take` the samples, float32 (frames, channels).

    What is put is all of the file but its header frame: that says how many samples to leave out, and is written last.
    So both ends are cut here by what is known of them, and `facts_of` holds the finished file against what was heard.
    """

    def __init__(self, encoding: Encoding, take: Callable[[np.ndarray], None]):
        self._encoding, self._take = encoding, take
        self._digest = hashlib.sha256()
        self._samples = 0
        self._heard = False
        self._thread = ThreadPoolExecutor(1)
        self._theirs: socket.socket | None = None
        self._listening: Future[None] | None = None

    def put(self, data: bytes) -> None:
        """Hand on what was written; waits while the decoder is more than a few seconds of sound behind."""
        if not self._theirs:
            # Not a pipe: sockets can be shut whoever else holds them, as a process forked from this one would.
            ours, self._theirs = socket.socketpair()
            self._listening = self._thread.submit(self._listen, ours)
        self._digest.update(data)
        # Where nobody listens any more, `facts_of` will say that it was not heard.
        with suppress(ConnectionError):
            self._theirs.sendall(data)

    def finish(self, samples: int) -> None:
        """All is written, of so many samples: wait until it is heard."""
        self._samples = samples
        self.close()

    def close(self) -> None:
        """Listen no longer than to what was put; the thread is over then."""
        if self._theirs:
            with self._theirs, suppress(OSError):
                self._theirs.shutdown(socket.SHUT_WR)
        self._thread.shutdown()

    def facts_of(self, path: Path) -> FileFacts | None:
        """The facts of the finished file, where it holds what was heard and nothing else and says how long that is.

        None where that is not proven: then it is to be decoded as any other. Raises what `take` raised.
        """
        if self._listening:
            self._listening.result()
        if not self._heard:
            return None
        with Reader(path) as reader:
            same = reader.walk(self._samples) == self._digest.hexdigest()
            facts = reader.facts()
        asked = "mp3", self._encoding.channels, self._encoding.sample_rate_hz
        alike = (facts.codec, facts.channels, facts.sample_rate_hz) == asked
        return facts if same and alike and not facts.damaged_packets and _stated(path) == self._samples else None

    def _listen(self, ours: socket.socket) -> None:
        with ours:
            try:
                with soundfile.SoundFile(ours.fileno(), closefd=False) as sound:
                    if (sound.samplerate, sound.channels) == (self._encoding.sample_rate_hz, self._encoding.channels):
                        self._decode(sound)
            except soundfile.LibsndfileError:
                # Too short to be told apart from something else, for one; it is decoded when it is whole.
                return
            finally:
                # The writer waits for nobody then.
                with suppress(OSError):
                    ours.shutdown(socket.SHUT_RDWR)

    def _decode(self, sound: soundfile.SoundFile) -> None:
        """Hand on what comes, a block behind: where it ends is told at the end."""
        early, given = ENCODER_DELAY + _DECODER_DELAY, 0
        held = np.empty((0, sound.channels), np.float32)
        while len(block := sound.read(BLOCK_FRAMES, dtype="float32", always_2d=True)):
            early, block = max(0, early - len(block)), block[early:]
            held = np.concatenate([held, block])
            if len(held) > _MOST_PADDING:
                ready, held = held[:-_MOST_PADDING], held[-_MOST_PADDING:]
                self._take(ready)
                given += len(ready)
        rest = held[: max(0, self._samples - given)]
        if len(rest):
            self._take(rest)
        self._heard = given + len(rest) == self._samples > 0


def _stated(path: Path) -> int | None:
    """How many samples the file says it has, as a decoder reads it that had no part in writing it."""
    try:
        return int(soundfile.info(str(path)).frames)
    except soundfile.LibsndfileError:
        return None
