"""One section and one outlet: one finished, verified file."""

import uuid
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from mastering.audio.convert import resampled, to_16_bit, to_channels
from mastering.audio.facts import FileFacts
from mastering.audio.placing import put_in_place
from mastering.audio.reader import Reader
from mastering.audio.waveform import WaveformWriter
from mastering.audio.writers import Encoding, encoder_gain_db, open_writer
from mastering.errors import CannotMake, FileInTheWay
from mastering.meters.decibels import amplitude_of_db
from mastering.meters.measurement import Measurement, Progress, Sound, measure, measure_opened, watched
from mastering.meters.meter import Levels, Meter
from mastering.outlets.checksheet import CheckSheet, check
from mastering.outlets.levelplan import LevelPlan, corrected, plan_levels
from mastering.outlets.outlet import Outlet
from mastering.rendering import Programme
from mastering.shaping.chain import Chain, shaped, shaped_stretch
from mastering.shaping.gain import gained
from mastering.shaping.limiter import limited
from mastering.shaping.rumble import without_rumble
from mastering.shaping.treatment import AS_IT_IS, Treatment

MOST_ATTEMPTS = 3
_LEAD_S = 1.0
"""How much before a stretch the filters and the limiter are set going."""
_HEARD_LUFS = -20.0
Stages = Callable[[str, float], None]
"""Called with the name of the stage at work and the share of the whole that is done, 0.0 to 1.0."""


@dataclass(frozen=True, kw_only=True)
class Made:
    """A finished file, measured by decoding it again, and how it came about."""

    path: Path
    found: Measurement
    sheet: CheckSheet
    plan: LevelPlan
    attempts: int
    remarks: tuple[str, ...]


def make(
    source: Path | Programme,
    outlet: Outlet,
    target: Path,
    *,
    content_kind: str = "speech",
    treatment: Treatment = AS_IT_IS,
    measured: Measurement | None = None,
    plan: LevelPlan | None = None,
    replace: bool = False,
    waveform: Path | None = None,
    stages: Stages = lambda stage, share: None,
) -> Made:
    """Make one finished file from a recording or a programme by the rules of one outlet, and prove it.

    The file is written beside its target and moved there when it is whole and measured. Where the decoded
    file misses a level rule, gain and ceiling are corrected by what was found and it is made again, at most
    MOST_ATTEMPTS times in all; the last stands with its check sheet, whatever that says.

    Parameters
    ----------
    treatment
        What may be done to it before its level.
    measured
        What `measured_for` finds of it, where that is known; saves a pass if it is in the outlet's channels.
    plan
        The plan to follow, made from `measured`, where it depends on other sections too.
    replace
        Whether a file at `target` may be replaced.
    waveform
        Where to draw the finished file's waveform, if anywhere.

    Raises
    ------
    UnreadableRecording, CannotMake, FileInTheWay, Cancelled
        Nothing is left behind in any of these cases.
    """
    if target.exists() and not replace:
        raise FileInTheWay(f"{target.name} exists already. Move it away, or allow it to be replaced.")
    channels = _channels(source, measured, outlet)
    known = measured is not None and measured.levels.channels == channels
    clock = _Clock(stages, measuring=not known)
    measuring = clock.stage("Measuring the recording")
    if not known:
        measured = measured_for(source, channels=channels, rumble_hz=treatment.rumble_hz, progress=measuring)
    encoding = outlet.encoding(channels=channels, content_kind=content_kind)
    demands = outlet.demands(channels=channels, content_kind=content_kind)
    if plan is None:
        plan = plan_levels(
            measured.levels, demands, lossy=encoding.lossy, treatment=treatment, content_kind=content_kind
        )
    facts, frames, chain = measured.facts, measured.levels.frames, plan.chain(measured.levels.envelope)
    # The envelope of a long recording is the largest thing in memory and has done its work.
    del measured
    attempts, remarks = 0, []
    # A name of its own, so that a file left by a killed process is never taken for a finished one.
    partial = target.with_name(f".{uuid.uuid4().hex}.making")
    try:
        while True:
            attempts += 1
            _render(source, facts, frames, plan, chain, encoding, partial, clock.stage("Levelling and encoding"))
            found = _found(partial, waveform, clock.stage("Checking the finished file"))
            better = corrected(plan, found.levels, demands)
            if better is None or attempts == MOST_ATTEMPTS:
                break
            remarks.append(_why_again(plan, better, found))
            plan = better
            clock.again()
            partial.unlink()
        put_in_place(partial, target, replace=replace)
    finally:
        partial.unlink(missing_ok=True)
    sheet = check(found, outlet, content_kind=content_kind)
    return Made(
        path=target,
        found=found,
        sheet=sheet,
        plan=plan,
        attempts=attempts,
        remarks=(*_source_remarks(facts), *plan.collisions, *plan.remarks, *remarks),
    )


def measured_for(
    source: Path | Programme,
    *,
    channels: int | None = None,
    outlet: Outlet | None = None,
    rumble_hz: float = 0.0,
    progress: Progress | None = None,
) -> Measurement:
    """Measure a whole recording or programme as its levels are planned by: in so many channels or those of an outlet,
    after the rumble filter where there is one. Raises UnreadableRecording or CannotMake.
    """
    if outlet:
        channels = _channels(source, None, outlet)

    def through(blocks: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
        return without_rumble(blocks, cutoff_hz=rumble_hz, sample_rate_hz=sound.sample_rate_hz) if rumble_hz else blocks

    with _opened(source) as sound:
        return measure_opened(sound, channels=channels, through=through, progress=progress)


@dataclass(frozen=True)
class Compared:
    """A stretch before and after, at equal loudness, float32 of shape (frames, channels) at the source's rate."""

    before: np.ndarray
    after: np.ndarray
    sample_rate_hz: int


def compared(source: Path | Programme, plan: LevelPlan, levels: Levels, *, start_s: float, length_s: float) -> Compared:
    """Hear what a plan does to a stretch: by the same steps that make the finished file, but for its format.

    Parameters
    ----------
    levels
        What the plan was made from.
    start_s
        Where it begins, seconds of the source; below 0 for room tone put before it.
    """
    chain, channels = plan.chain(levels.envelope), levels.channels
    with _opened(source) as sound:
        rate_hz = sound.sample_rate_hz
        start, end = round(start_s * rate_hz), round((start_s + length_s) * rate_hz)
        kept = to_channels(sound.stretch(max(0, start), max(0, min(end, levels.frames))), channels)
        before = _joined(kept, channels)
        shift = round(chain.edges.tone_head_s * rate_hz) - round(chain.edges.cut_head_s * rate_hz)
        first = max(0, start + shift)
        lead = min(first, round(_LEAD_S * rate_hz))
        last = max(first, end + shift)
        # Hush and limiter look a little beyond the end, too.
        blocks = shaped_stretch(
            sound, chain, first - lead, last + rate_hz // 4, frames=levels.frames, channels=channels
        )
        blocks = _levelled(blocks, plan, sample_rate_hz=rate_hz, channels=channels)
        after = _joined(blocks, channels)[lead : lead + last - first]
    loud_db = [_loudness_db(samples, rate_hz) for samples in (before, after)]
    factors = [amplitude_of_db(min(loud_db) - each) for each in loud_db]
    highest = max(
        (float(np.abs(s).max()) * f for s, f in zip((before, after), factors, strict=True) if len(s)), default=0
    )
    # Loud enough to judge, and nothing is clipped.
    louder = min(amplitude_of_db(_HEARD_LUFS - min(loud_db)), 0.9 / max(highest, 1e-9))
    return Compared(*(s * np.float32(f * louder) for s, f in zip((before, after), factors, strict=True)), rate_hz)


def _loudness_db(samples: np.ndarray, rate_hz: int) -> float:
    """Loudness by which stretches are made equal, LUFS, or RMS where there is too little of them."""
    if not len(samples):
        return _HEARD_LUFS
    meter = Meter(rate_hz, ("FC",) if samples.shape[1] == 1 else ("FL", "FR"))
    meter.add(samples)
    levels = meter.levels()
    found = levels.integrated_lufs if levels.integrated_lufs is not None else levels.rms_dbfs
    return _HEARD_LUFS if found is None else found


def _joined(blocks: Iterator[np.ndarray], channels: int) -> np.ndarray:
    return np.concatenate([np.empty((0, channels), np.float32), *blocks])


def _opened(source: Path | Programme) -> Sound:
    return source.opened() if isinstance(source, Programme) else Reader(source)


def _channels(source: Path | Programme, measured: Measurement | None, outlet: Outlet) -> int:
    if measured:
        count = measured.facts.channels
    else:
        with _opened(source) as sound:
            count = sound.channels
    if count > 2:
        raise CannotMake(
            f"This recording has {count} channels, and this outlet takes mono or stereo. "
            "Mix it down to one or two channels first."
        )
    return outlet.channels_for(count)


def _render(
    source: Path | Programme,
    facts: FileFacts,
    frames: int,
    plan: LevelPlan,
    chain: Chain,
    encoding: Encoding,
    path: Path,
    progress: Progress,
) -> None:
    with _opened(source) as reader, _opened(source) as beside:
        blocks = shaped(
            watched(reader, progress=progress), chain, source=beside, frames=frames, channels=encoding.channels
        )
        blocks = resampled(
            blocks,
            from_hz=reader.sample_rate_hz,
            to_hz=encoding.sample_rate_hz,
            channels=encoding.channels,
        )
        blocks = _levelled(blocks, plan, sample_rate_hz=encoding.sample_rate_hz, channels=encoding.channels)
        made_up = amplitude_of_db(-encoder_gain_db(encoding))
        writer = open_writer(path, encoding)
        try:
            for block in to_16_bit(
                blocks,
                dither=_depth_drops(
                    facts,
                    plan,
                    encoding,
                    edited=not chain.changes_nothing or isinstance(source, Programme) and not source.untouched,
                ),
                gain=made_up,
            ):
                writer.write(block)
        finally:
            writer.close()


def _levelled(
    blocks: Iterator[np.ndarray], plan: LevelPlan, *, sample_rate_hz: int, channels: int
) -> Iterator[np.ndarray]:
    blocks = gained(blocks, plan.gain_db)
    if plan.ceiling_dbtp is None:
        return blocks
    return limited(blocks, ceiling_dbtp=plan.ceiling_dbtp, sample_rate_hz=sample_rate_hz, channels=channels)


def _found(path: Path, waveform: Path | None, progress: Progress) -> Measurement:
    if waveform is None:
        return measure(path, progress=progress)
    writer = WaveformWriter(waveform)
    try:
        return measure(path, also=writer.add, progress=progress)
    finally:
        writer.close()


def _depth_drops(source: FileFacts, plan: LevelPlan, encoding: Encoding, *, edited: bool) -> bool:
    """Whether the samples have more digits than 16 bits hold when they are rounded."""
    whole = not edited and source.bit_depth is not None and source.bit_depth <= 16
    same_rate = source.sample_rate_hz == encoding.sample_rate_hz
    mixed = encoding.channels < source.channels
    return not (whole and same_rate and not mixed and plan.gain_db == 0 and not plan.limited_db)


def _why_again(plan: LevelPlan, better: LevelPlan, found: Measurement) -> str:
    if better.ceiling_dbtp != plan.ceiling_dbtp:
        return (
            f"Encoding pushed the true peak to {found.levels.true_peak_dbtp:.1f} dBTP; the ceiling was lowered to "
            f"{better.ceiling_dbtp:.1f} dBTP and the file made again."
        )
    return f"The first file missed its level; the gain was changed to {better.gain_db:+.1f} dB and it was made again."


def _source_remarks(source: FileFacts) -> tuple[str, ...]:
    if not source.lossy:
        return ()
    return (
        f"The recording is itself {source.codec.upper()}, a lossy format: each further encoding loses quality. "
        "If there is a WAV of it, use that.",
    )


class _Clock:
    """Shares of the whole, weighed by what each stage costs on speech made into MP3 (measured by bin/bench)."""

    _MEASURING, _ENCODING, _CHECKING = 0.12, 0.70, 0.18

    def __init__(self, stages: Stages, *, measuring: bool):
        self._stages = stages
        self._skipped = 0.0 if measuring else self._MEASURING
        self._spans = {
            "Measuring the recording": (0.0, self._MEASURING),
            "Levelling and encoding": (self._MEASURING, self._ENCODING),
            "Checking the finished file": (self._MEASURING + self._ENCODING, self._CHECKING),
        }

    def again(self) -> None:
        self._skipped = self._MEASURING

    def stage(self, name: str) -> Progress:
        start, length = self._spans[name]

        def progress(share: float) -> None:
            whole = (start + length * share - self._skipped) / (1 - self._skipped)
            self._stages(name, min(1.0, max(0.0, whole)))

        return progress
