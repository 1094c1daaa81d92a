"""One pass over the audio, every figure."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from math import isfinite

import numpy as np
import scipy

from mastering.audio.beside import Behind
from mastering.meters import loudness
from mastering.meters.bandwidth import BandwidthMeter
from mastering.meters.decibels import db_of_amplitude, db_of_power
from mastering.meters.dropouts import dropouts, speech_share
from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, quantised
from mastering.meters.faults import ClickSampler, Flattened, FlatTops
from mastering.meters.hum import HumMeter
from mastering.meters.kweighting import channel_weights, k_weighting
from mastering.meters.sides import voices_apart
from mastering.meters.speech import head_and_tail, noise_floor
from mastering.meters.truepeak import TruePeakMeter, loudest_channel

_STEPS_PER_SECOND = 10
_TAKEN_SAMPLES = 192000
"""So many are taken at a time, in whole seconds: then numpy works rather than Python, and still in the cache."""
_SILENT_DBFS = -70.0
_AES17_DB = 3.0103
"""AES17-2020, 3.12.3 (from memory): decibels relative to the RMS of a full-scale sine."""
_CELLS_A_STEP = CELLS_PER_SECOND // _STEPS_PER_SECOND
_FULL_SCALE = 0.9999
_CLIPPED_RUN = 3
"""Samples in a row at full scale; fewer may be chance (common practice, no source)."""
_DEAD_DB, _ALIVE_DB = -70.0, -50.0


@dataclass(frozen=True, kw_only=True)
class Levels:
    """What is in the audio. A figure is None where it is not defined: silence, or too short for its window.

    `rms_aes17_dbfs` is the RMS after AES17, where a full-scale sine reads 0. `clipped_runs` counts stretches of three
    samples or more at full scale. `dead_channels` are those that hold next to nothing while another is alive, counted
    from 0. `dc_offset` is the largest mean of a channel, full scale 1.0. `correlation` (-1 to 1) and
    `channel_difference_db` (left over right) compare two live sides. `bandwidth_hz` is where the sound ends in a
    cliff. `dropouts` counts holes in words, `speech_share` says how much of it is speech. `hum_hz` and `hum_dbfs` tell
    of mains hum, where it stands out. `voices_apart_db` is by how much the left voice is the louder where two speak,
    one on each side. `flattened` tells of tops that are cut off at whatever level, `clicks_per_min` of clicks. `steps`
    is the weighted mean square of each whole 100 ms, shape (n,), for drawing loudness over time.
    """

    sample_rate_hz: int
    channels: int
    frames: int
    sample_peak_dbfs: float | None
    true_peak_dbtp: float | None
    rms_dbfs: float | None
    rms_aes17_dbfs: float | None
    crest_factor_db: float | None
    integrated_lufs: float | None
    max_momentary_lufs: float | None
    max_short_term_lufs: float | None
    loudness_range_lu: float | None
    noise_floor_dbfs: float | None
    head_s: float | None
    tail_s: float | None
    sides_alike: bool
    clipped_runs: int
    dead_channels: tuple[int, ...]
    dc_offset: float
    correlation: float | None
    channel_difference_db: float | None
    bandwidth_hz: int | None
    dropouts: int
    speech_share: float | None
    hum_hz: int | None
    hum_dbfs: float | None
    voices_apart_db: float | None = None
    flattened: Flattened | None = None
    clicks_per_min: float | None = None
    steps: np.ndarray
    envelope: Envelope

    @property
    def duration_s(self) -> float:
        return self.frames / self.sample_rate_hz

    @property
    def silent(self) -> bool:
        """Whether there is nothing but digital silence, or dither and the like."""
        return self.sample_peak_dbfs is None or self.sample_peak_dbfs < _SILENT_DBFS


class Meter:
    """Measure a stream of float32 blocks of shape (frames, channels).

    Add blocks of any length, then read `levels()` once. With `of_recording` it also looks for what only a recording is
    asked: hum, and where the sound ends in a cliff. `aside` does half of the work in a thread of its own: what does not
    want the K-weighted sound.

    >>> meter = Meter(8000, ("FC",))
    >>> meter.add(np.full((8000, 1), 0.5, np.float32))
    >>> round(meter.levels().rms_dbfs, 2)
    -6.02
    """

    def __init__(
        self,
        sample_rate_hz: int,
        channel_names: tuple[str, ...],
        *,
        of_recording: bool = True,
        aside: Behind[Callable[[], None]] | None = None,
    ):
        self._aside = aside
        self._rate_hz = sample_rate_hz
        self._channels = len(channel_names)
        self._weights = channel_weights(channel_names)
        # Not imported by name: scipy loads its parts when they are first used, and this one takes a second.
        self._numerator, self._denominator = scipy.signal.sos2tf(k_weighting(sample_rate_hz))
        self._filter_state = np.zeros((self._channels, 4))
        seconds = max(1, _TAKEN_SAMPLES // (sample_rate_hz * self._channels))
        self._taken_frames = seconds * sample_rate_hz
        self._cell_starts = np.arange(seconds * CELLS_PER_SECOND + 1) * sample_rate_hz // CELLS_PER_SECOND
        self._step_ends = np.arange(1, seconds * _STEPS_PER_SECOND + 1) * sample_rate_hz // _STEPS_PER_SECOND
        self._step_frames = np.diff(self._step_ends, prepend=0)
        self._true_peak = TruePeakMeter(self._channels)
        self._waiting: list[np.ndarray] = []
        self._waiting_frames = 0
        self._frames = 0
        self._energies = np.zeros(self._channels)
        self._sums = np.zeros(self._channels)
        self._product = 0.0
        self._of_recording = of_recording
        self._bandwidth = BandwidthMeter(sample_rate_hz)
        self._clipped_runs = 0
        self._hum = HumMeter(sample_rate_hz)
        self._flat_tops = FlatTops(sample_rate_hz)
        self._click_sampler = ClickSampler(sample_rate_hz)
        self._peak_frames = 0
        self._highest_sample = 0.0
        self._sides_alike = self._channels == 2
        # Bytes grow in place; a list of arrays joined at the end would take twice the memory.
        self._steps = bytearray()
        self._side_steps = (bytearray(), bytearray())
        self._cells = (bytearray(), bytearray(), bytearray())

    def add(self, block: np.ndarray) -> None:
        """Take the next block."""
        while len(block):
            wanted = self._taken_frames - self._waiting_frames
            self._waiting.append(block[:wanted])
            self._waiting_frames += len(self._waiting[-1])
            block = block[wanted:]
            if self._waiting_frames == self._taken_frames:
                self._take(np.concatenate(self._waiting) if len(self._waiting) > 1 else self._waiting[0])
                self._waiting, self._waiting_frames = [], 0

    def levels(self) -> Levels:
        """The figures of all that was added. Call once, at the end."""
        self._take_rest()
        if self._aside:
            self._aside.finish()
        steps = np.frombuffer(self._steps, np.float64)
        envelope = Envelope(*(np.frombuffer(levels, np.int16) for levels in self._cells))
        edges = head_and_tail(envelope) if len(envelope) else None
        whole_cells = self._frames * CELLS_PER_SECOND // self._rate_hz
        hum = self._hum.hum()
        peak_dbfs = _figure(db_of_amplitude(self._highest_sample))
        rms_dbfs = _figure(db_of_power(self._energies.sum() / max(1, self._frames * self._channels)))
        correlation, difference_db = self._sides()
        return Levels(
            sample_rate_hz=self._rate_hz,
            channels=self._channels,
            frames=self._frames,
            sample_peak_dbfs=peak_dbfs,
            true_peak_dbtp=_figure(db_of_amplitude(self._true_peak.peak())),
            rms_dbfs=rms_dbfs,
            rms_aes17_dbfs=None if rms_dbfs is None else rms_dbfs + _AES17_DB,
            crest_factor_db=None if rms_dbfs is None or peak_dbfs is None else peak_dbfs - rms_dbfs,
            integrated_lufs=_figure(loudness.integrated(steps)),
            max_momentary_lufs=_figure(loudness.max_momentary(envelope.weighted[:whole_cells])),
            max_short_term_lufs=_figure(loudness.max_short_term(steps)),
            loudness_range_lu=_figure(loudness.loudness_range(steps)),
            noise_floor_dbfs=_figure(noise_floor(envelope)) if len(envelope) else None,
            head_s=edges[0] if edges else None,
            tail_s=edges[1] if edges else None,
            sides_alike=self._sides_alike and self._highest_sample > 0,
            clipped_runs=self._clipped_runs,
            dead_channels=self._dead_channels(),
            dc_offset=float(np.abs(self._sums).max() / max(1, self._frames)),
            correlation=correlation,
            channel_difference_db=difference_db,
            bandwidth_hz=self._bandwidth.edge_hz(),
            dropouts=dropouts(envelope) if len(envelope) else 0,
            speech_share=speech_share(envelope) if len(envelope) else None,
            hum_hz=hum[0] if hum else None,
            hum_dbfs=_figure(db_of_amplitude(hum[1])) if hum else None,
            voices_apart_db=self._voices_apart_db(),
            flattened=self._flat_tops.flattened(),
            clicks_per_min=self._click_sampler.per_minute(),
            steps=steps,
            envelope=envelope,
        )

    def _voices_apart_db(self) -> float | None:
        if self._sides_alike or self._dead_channels() or not self._side_steps[0]:
            return None
        return voices_apart(*(np.frombuffer(side, np.float32).astype(np.float64) for side in self._side_steps))

    def _dead_channels(self) -> tuple[int, ...]:
        levels = [float(db_of_power(energy / max(1, self._frames))) for energy in self._energies]
        if max(levels) < _ALIVE_DB:
            return ()
        return tuple(channel for channel, level in enumerate(levels) if level < _DEAD_DB)

    def _sides(self) -> tuple[float | None, float | None]:
        """Correlation of two sides, and by how many dB the left is the louder; None unless both hold sound."""
        if self._channels != 2 or not self._energies.all() or self._dead_channels():
            return None, None
        left, right = self._energies
        return float(self._product / np.sqrt(left * right)), float(db_of_power(left / right))

    def _take_rest(self) -> None:
        rest = np.concatenate(self._waiting) if self._waiting else np.empty((0, self._channels), np.float32)
        whole = len(rest) - len(rest) % self._rate_hz
        for part in (rest[:whole], rest[whole:]):
            if len(part):
                self._take(part)

    def _take(self, samples: np.ndarray) -> None:
        """Take some whole seconds, or less than one, cut into cells."""
        starts = self._cell_starts[: np.searchsorted(self._cell_starts, len(samples))]
        if self._aside:
            self._aside.put(partial(self._take_peaks, samples, starts))
        else:
            self._take_peaks(samples, starts)
        self._take_energies(samples, starts, np.diff(np.append(starts, len(samples))))
        self._frames += len(samples)

    def _take_energies(self, samples: np.ndarray, cell_starts: np.ndarray, cell_frames: np.ndarray) -> None:
        weighted_sums, plain_sums = np.zeros(len(cell_starts)), np.zeros(len(cell_starts))
        if self._sides_alike:
            self._sides_alike = bool(np.array_equal(samples[:, 0], samples[:, 1]))
        for channel, weight in enumerate(self._weights):
            if channel == 0 or not self._sides_alike:
                column = np.ascontiguousarray(samples[:, channel])
                sound, state = scipy.signal.lfilter(
                    self._numerator, self._denominator, column, zi=self._filter_state[channel]
                )
                weighted, plain, total = _energies(sound, cell_starts), _energies(column, cell_starts), column.sum()
            self._filter_state[channel] = state
            weighted_sums += weight * weighted
            if self._channels == 2 and self._of_recording:
                self._side_steps[channel].extend(self._whole_steps(weighted, len(samples)).astype(np.float32).tobytes())
            self._energies[channel] += plain.sum()
            self._sums[channel] += float(total)
            plain_sums += plain
        # What a filter still rings of is no sound: digital silence is silent in all three levels.
        self._cells[0].extend(quantised(np.where(plain_sums > 0, weighted_sums, 0.0) / cell_frames).tobytes())
        self._cells[1].extend(quantised(plain_sums / (cell_frames * self._channels)).tobytes())
        self._steps.extend(self._whole_steps(weighted_sums, len(samples)).tobytes())

    def _take_peaks(self, samples: np.ndarray, cell_starts: np.ndarray) -> None:
        """Peaks, hum, bandwidth and sides, which have nothing in common with energies."""
        peaks = np.maximum.reduceat(loudest_channel(samples), cell_starts).astype(np.float64)
        highest = float(peaks.max())
        self._true_peak.add(samples, highest)
        self._highest_sample = max(self._highest_sample, highest)
        if highest >= _FULL_SCALE:
            self._clipped_runs += _runs_at_full_scale(samples)
        if self._of_recording:
            mean = samples.mean(axis=1) if self._channels > 1 else samples[:, 0]
            self._hum.add(mean)
            self._bandwidth.add(mean)
            self._click_sampler.add(mean)
            self._flat_tops.add(samples, self._peak_frames)
            self._peak_frames += len(samples)
        if self._channels == 2:
            self._product += float(np.vdot(samples[:, 0], samples[:, 1]))
        self._cells[2].extend(quantised(np.square(peaks)).tobytes())

    def _whole_steps(self, weighted_sums: np.ndarray, frames: int) -> np.ndarray:
        whole = int(np.searchsorted(self._step_ends, frames, side="right"))
        sums = np.add.reduceat(weighted_sums, np.arange(0, len(weighted_sums), _CELLS_A_STEP))[:whole]
        return sums / self._step_frames[:whole]


def _energies(column: np.ndarray, cell_starts: np.ndarray) -> np.ndarray:
    """The sum of squares of each cell, float64."""
    if len(cell_starts) % CELLS_PER_SECOND == 0 and len(column) % len(cell_starts) == 0:
        rows = column.reshape(len(cell_starts), -1)
        told: np.ndarray = np.vecdot(rows, rows).astype(np.float64)
        return told
    return np.add.reduceat(np.square(column, dtype=np.float64), cell_starts)


def _runs_at_full_scale(samples: np.ndarray) -> int:
    """How many stretches of full-scale samples there are, all channels together."""
    full = np.abs(samples) >= _FULL_SCALE
    edges = np.diff(full.astype(np.int8), axis=0, prepend=0, append=0)
    return sum(
        int((np.flatnonzero(edges[:, c] < 0) - np.flatnonzero(edges[:, c] > 0) >= _CLIPPED_RUN).sum())
        for c in range(samples.shape[1])
    )


def _figure(value: float | None) -> float | None:
    return value if value is not None and isfinite(value) else None
