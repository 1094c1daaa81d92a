"""One section and one outlet: one finished, verified file."""

import uuid
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from mastering.audio.convert import resampled, to_16_bit, to_channels
from mastering.audio.facts import FileFacts
from mastering.audio.placing import put_in_place
from mastering.audio.reader import Reader
from mastering.audio.waveform import WaveformWriter
from mastering.audio.writers import Encoding, encoder_gain_db, open_writer
from mastering.errors import CannotMake, FileInTheWay
from mastering.meters.decibels import amplitude_of_db
from mastering.meters.measurement import Measurement, Progress, Sound, measure, measure_opened, watched
from mastering.outlets.checksheet import CheckSheet, check
from mastering.outlets.levelplan import LevelPlan, corrected, plan_levels
from mastering.outlets.outlet import Outlet
from mastering.rendering import Programme
from mastering.shaping.gain import gained
from mastering.shaping.limiter import limited

MOST_ATTEMPTS = 3
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
    measured: Measurement | None = None,
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
    measured
        The measurement of the whole source, where it is known; saves a pass if it is in the outlet's channels.
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
        with _opened(source) as sound:
            measured = measure_opened(sound, channels=channels, progress=measuring)
    encoding = outlet.encoding(channels=channels, content_kind=content_kind)
    demands = outlet.demands(channels=channels, content_kind=content_kind)
    plan = plan_levels(measured.levels, demands, lossy=encoding.lossy)
    facts = measured.facts
    # The envelope of a long recording is the largest thing in memory and has done its work.
    del measured
    attempts, remarks = 0, []
    # A name of its own, so that a file left by a killed process is never taken for a finished one.
    partial = target.with_name(f".{uuid.uuid4().hex}.making")
    try:
        while True:
            attempts += 1
            _render(source, facts, plan, encoding, partial, clock.stage("Levelling and encoding"))
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


def plan_for(source: Path | Programme, outlet: Outlet, *, content_kind: str = "speech") -> LevelPlan:
    """The level plan that `make` would follow. Raises UnreadableRecording or CannotMake."""
    channels = _channels(source, None, outlet)
    with _opened(source) as sound:
        levels = measure_opened(sound, channels=channels).levels
    encoding = outlet.encoding(channels=channels, content_kind=content_kind)
    demands = outlet.demands(channels=channels, content_kind=content_kind)
    return plan_levels(levels, demands, lossy=encoding.lossy)


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
    plan: LevelPlan,
    encoding: Encoding,
    path: Path,
    progress: Progress,
) -> None:
    with _opened(source) as reader:
        blocks = watched(reader, progress=progress)
        blocks = to_channels(blocks, encoding.channels)
        blocks = resampled(
            blocks,
            from_hz=reader.sample_rate_hz,
            to_hz=encoding.sample_rate_hz,
            channels=encoding.channels,
        )
        blocks = gained(blocks, plan.gain_db)
        if plan.ceiling_dbtp is not None:
            blocks = limited(
                blocks,
                ceiling_dbtp=plan.ceiling_dbtp,
                sample_rate_hz=encoding.sample_rate_hz,
                channels=encoding.channels,
            )
        made_up = amplitude_of_db(-encoder_gain_db(encoding))
        writer = open_writer(path, encoding)
        try:
            for block in to_16_bit(
                blocks,
                dither=_depth_drops(
                    facts, plan, encoding, edited=isinstance(source, Programme) and not source.untouched
                ),
                gain=made_up,
            ):
                writer.write(block)
        finally:
            writer.close()


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
    return not (whole and same_rate and not mixed and plan.gain_db == 0)


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
