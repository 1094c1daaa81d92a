"""How much of the whole is done."""

from collections.abc import Callable, Sequence

from mastering.audio.writers import can_be_overheard
from mastering.making.job import Job
from mastering.meters.measurement import Progress
from mastering.said import Said

Stages = Callable[[str, float], None]
"""Called with the name of the stage at work and the share of the whole that is done, 0.0 to 1.0."""


class Clock:
    """Shares of the whole, weighed by what each stage costs on speech made into MP3 (measured by bin/bench)."""

    _MEASURING = 0.12
    _CHECKING, _CHECKING_OVERHEARD = 0.18, 0.02

    def __init__(self, stages: Stages, files: int):
        self._checking = self._CHECKING
        self._stages, self._files = stages, files
        self._checked = self._encoded = 0
        self._told = 0.0

    def plan(self, jobs: Sequence[Job]) -> None:
        """From now on these are made: what is heard while it is written is soon proven."""
        if all(can_be_overheard(job.encoding) for job in jobs):
            self._checking = self._CHECKING_OVERHEARD

    @property
    def _encoding(self) -> float:
        return 1.0 - self._MEASURING - self._checking

    def encoding(self, jobs: Sequence[Job]) -> Progress:
        """The stage that encodes these files together."""
        start, self._encoded = self._encoded, self._encoded + len(jobs)
        length = self._encoding * len(jobs) / self._files
        return self._progress(
            Said("levelling-encoding"), self._MEASURING + self._encoding * start / self._files, length
        )

    def stage(self, name: str) -> Progress:
        if name == "Measuring the recording":
            return self._progress(name, 0.0, self._MEASURING)
        done = self._MEASURING + self._encoding + self._checking * self._checked / self._files
        return self._progress(name, done, self._checking / self._files)

    def done(self) -> None:
        """One file is finished."""
        self._checked += 1
        self._tell(Said("checking-finished-file"), self._MEASURING + self._encoding + self._checking * self._share)

    @property
    def _share(self) -> float:
        return self._checked / self._files

    def _progress(self, name: str, start: float, length: float) -> Progress:
        return lambda share: self._tell(name, start + length * share)

    def _tell(self, name: str, whole: float) -> None:
        # It never goes back, even where a file has to be made again.
        self._told = max(self._told, min(1.0, whole))
        self._stages(name, self._told)
