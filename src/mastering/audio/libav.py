"""What libav encodes: AAC, ALAC, FLAC, Opus, Windows Media and AIFF out."""

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from mastering.audio.encodings import Encoding
from mastering.audio.formats import CODECS, INT_16, written_in
from mastering.certain import certain


class LibavWriter:
    """Takes the blocks its encoding holds."""

    def __init__(self, path: Path, encoding: Encoding, *, chapters: Sequence[Any] = ()):
        self._encoding = encoding
        # An own handle, so that nothing is ever overwritten.
        path.open("xb").close()
        options = {"fflags": "bitexact"}
        own = written_in(encoding.container)
        if own.is_mp4:
            options |= {"brand": own.name.upper() + " ", "movflags": "+faststart"}
            # Its edit list, which says how long the sound is, counts in these: so it is exact to the sample.
            options["movie_timescale"] = str(encoding.sample_rate_hz)
        self._container = av.open(str(path.absolute()), "w", format=own.muxer, container_options=options)
        given = {"flags": "+bitexact"} | self._settings()
        stream: Any = self._container.add_stream(self._codec(), rate=encoding.sample_rate_hz, options=given)
        self._stream = stream
        if chapters:
            self._container.set_chapters(chapter_atoms(chapters))
        self._layout = "mono" if encoding.channels == 1 else "stereo"
        self._form = CODECS[encoding.codec].samples.format(16 if encoding.sample_format == INT_16 else 32)
        self._stream.layout, self._stream.format = self._layout, self._form
        if encoding.lossy:
            self._stream.bit_rate = certain(encoding.bit_rate_kbps) * 1000
        self._at = 0
        self._around = np.zeros((_lost_frames(encoding), encoding.channels), np.float32)
        if len(self._around):
            self.write(self._around)

    def write(self, block: np.ndarray) -> None:
        samples = block.T if self._form.endswith("p") else block.reshape(1, -1)
        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(samples), format=self._form, layout=self._layout)
        frame.sample_rate = self._encoding.sample_rate_hz
        frame.pts, frame.time_base = self._at, Fraction(1, self._encoding.sample_rate_hz)
        self._at += len(block)
        self._container.mux(self._stream.encode(frame))

    def close(self) -> None:
        try:
            if len(self._around):
                self.write(self._around)
            self._container.mux(self._stream.encode(None))
        finally:
            self._container.close()

    def _codec(self) -> str:
        if encoder := CODECS[self._encoding.codec].encoder:
            return encoder
        return written_in(self._encoding.container).pcm.format(certain(self._encoding.sample_format)[:2])

    def _settings(self) -> dict[str, str]:
        return dict(CODECS[self._encoding.codec].settings.get(self._encoding.mode or "", {}))


def chapter_atoms(chapters: Sequence[Any]) -> list[Any]:
    """Chapter marks (start_s, end_s, title) as libav takes them, in milliseconds."""
    return [
        {
            "id": number,
            "start": round(chapter.start_s * 1000),
            "end": round(chapter.end_s * 1000),
            "time_base": Fraction(1, 1000),
            "metadata": {"title": chapter.title},
        }
        for number, chapter in enumerate(chapters)
    ]


def _lost_frames(encoding: Encoding) -> int:
    """Samples a decoder of Windows Media drops at either end without being told: so much silence is put there.

    One frame, whose length follows from the sample rate (found by decoding; the format states nothing).
    """
    if encoding.codec != "wmav2":
        return 0
    return 512 if encoding.sample_rate_hz <= 16000 else 1024 if encoding.sample_rate_hz <= 22050 else 2048
