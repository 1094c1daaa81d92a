"""What a finished file holds: heard while it is written, or decoded and measured."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from mastering.audio.encodings import Encoding
from mastering.audio.waveform import WaveformWriter
from mastering.meters.kweighting import CHANNEL_NAMES
from mastering.meters.meter import Levels, Meter
from mastering.outlets.passages import PassageMeters


class Finds:
    """What one pass over the samples of a finished file finds: its levels, those of its passages, its waveform."""

    def __init__(self, encoding: Encoding, spans: Sequence[tuple[float, float]], waveform: Path | None):
        self._rate_hz, self._channels = encoding.sample_rate_hz, encoding.channels
        self._meter = Meter(self._rate_hz, CHANNEL_NAMES[self._channels], of_recording=False)
        self._passages = PassageMeters(spans, sample_rate_hz=self._rate_hz, channels=self._channels)
        self._waveform = WaveformWriter(waveform) if waveform else None

    def add(self, block: np.ndarray) -> None:
        """Take the next block of the file."""
        self._meter.add(block)
        self.add_beside(block)

    def add_beside(self, block: np.ndarray) -> None:
        """Take the next block, but for the levels of the whole."""
        self._passages.add(block)
        if self._waveform:
            self._waveform.add(block)

    def levels(self) -> Levels:
        """The levels of the whole file. Call once, at the end."""
        return self._meter.levels()

    def passages(self) -> list[Levels]:
        """The levels of each passage. Call once, at the end."""
        return self._passages.levels()

    def close(self) -> None:
        """Complete the waveform."""
        if self._waveform:
            self._waveform.close()
            self._waveform = None
