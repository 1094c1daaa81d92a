"""One file that is wanted, planned and under way."""

import math
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import Any

from mastering.audio.encodings import Encoding
from mastering.audio.facts import FileFacts
from mastering.audio.overheard import Overheard
from mastering.audio.placing import partial_of
from mastering.audio.wav import Broadcast
from mastering.certain import certain
from mastering.errors import FileInTheWay
from mastering.making.finds import Finds
from mastering.making.survey import Sounding, Survey, measured_for
from mastering.meters.measurement import Measurement
from mastering.meters.meter import Levels
from mastering.outlets.balance import Run, spans_of, with_balance
from mastering.outlets.demands import Demand
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import Outlet
from mastering.outlets.passages import Passage, levelled_parts, plan_parted
from mastering.outlets.planning import plan_levels
from mastering.rendering import Programme
from mastering.said import Said
from mastering.shaping.chain import Chain
from mastering.shaping.treatment import Treatment
from mastering.tagging.inscription import Chapter, Inscription


@dataclass(frozen=True, kw_only=True)
class Order:
    """One finished file that is wanted of a section.

    Parameters
    ----------
    name
        What it will be called, where that is not the name of `target`.
    measured
        Gives what `measured_for` finds of the section, where that is known; saves a pass if it is in the outlet's
        channels. A function, so that the envelope of a long recording need not stay in memory.
    plan
        The plan to follow, made from `measured`, where it depends on other sections too.
    inscription
        What the file is to say of itself. Its chapters count from the start of the source.
    broadcast
        What the description of a BWF says.
    texts
        What its name and tags are to be, by rule (see `check`).
    replace
        Whether a file at `target` may be replaced.
    waveform
        Where to draw the finished file's waveform, if anywhere.
    proven
        Called before the finished file takes its name; raises where what it was made from proved wrong.
    """

    outlet: Outlet
    target: Path
    name: str = ""
    measured: Callable[[], Measurement | None] = lambda: None
    plan: LevelPlan | None = None
    inscription: Inscription = Inscription()
    broadcast: Broadcast = Broadcast()
    texts: Mapping[str, str] | None = None
    replace: bool = False
    waveform: Path | None = None
    proven: Callable[[], None] = lambda: None


@dataclass(kw_only=True)
class Job:
    """One order under way. The partial file has a name of its own, so that it is never taken for a finished one."""

    order: Order
    source: Sounding
    facts: FileFacts
    frames: int
    plan: LevelPlan
    chain: Chain
    encoding: Encoding
    demands: dict[str, Demand]
    partial: Path
    best: Path
    number: int = 0
    attempts: int = 0
    remarks: list[str] = field(default_factory=list)
    base: Programme | None = None
    passages: list[Passage] = field(default_factory=list)
    runs: list[Run] = field(default_factory=list)
    finds: Finds | None = None
    overheard: Overheard | None = None

    @property
    def treated_alike(self) -> tuple[Any, ...]:
        """What tells whether two jobs can share reading and treatment."""
        chain = self.chain
        ride = None if chain.ride_db is None else chain.ride_db.tobytes()
        gains = tuple(passage.plan.gain_db for passage in self.passages)
        return self.encoding.channels, replace(chain, ride_db=None), ride, gains

    @property
    def spans(self) -> list[tuple[float, float]]:
        """Where its passages lie in the finished file, seconds."""
        return [self._in_file(each) for each in self.passages]

    @property
    def kinds(self) -> list[tuple[str, float, float]]:
        """What the finished file holds one after the other, where that is not one kind."""
        return [(run.kind, *self._in_file(run)) for run in self.runs]

    def new_finds(self) -> Finds:
        """For one pass over the finished file."""
        return Finds(self.encoding, self.spans, self.order.waveform)

    def _in_file(self, part: Run) -> tuple[float, float]:
        shift_s = self.chain.edges.head_s
        return max(0.0, part.start_s + shift_s), max(0.0, part.end_s + shift_s)

    def bettered_passages(self, found: Sequence[Levels]) -> bool:
        """Correct the gains of passages by what was found; False where that can do no better."""
        better = [passage.bettered(levels) for passage, levels in zip(self.passages, found, strict=True)]
        if not any(better):
            return False
        self.passages = [new or old for new, old in zip(better, self.passages, strict=True)]
        self.source = levelled_parts(certain(self.base), self.passages)
        told = tuple((each.kind, each.start_s, each.end_s, each.plan.gain_db) for each in self.passages)
        self.plan = replace(self.plan, passages=told)
        self.remarks.append(Said("passage-missed-level-first-file"))
        return True


def planned(survey: Survey, order: Order, content_kind: str, treatment: Treatment) -> Job:
    if order.target.exists() and not order.replace:
        raise FileInTheWay(Said("exists-already-move-away-allow", name=order.target.name))
    outlet = order.outlet
    channels = survey.channels_for(outlet, content_kind)
    known = survey.known(channels)
    if passages := survey.passages(outlet, channels, content_kind):
        return _planned_in_parts(survey, order, content_kind, treatment, channels, passages)
    measured = order.measured()
    if measured is None or measured.levels.channels != channels:
        measured = survey.measured(channels)
    encoding = outlet.encoding(channels=channels, content_kind=content_kind)
    demands = outlet.demands(channels=channels, content_kind=content_kind)
    plan = order.plan or plan_levels(
        measured.levels,
        demands,
        lossy=encoding.lossy,
        treatment=treatment,
        content_kind=content_kind,
        filtered=lambda: survey.measured(channels, filtered=True).levels,
        known=known,
        unsteadiness_db=partial(survey.unsteadiness_db, channels, content_kind),
    )
    if plan.rumble_hz != treatment.measured_hz:
        measured = survey.measured(channels, filtered=True)
    runs = survey.runs(channels, content_kind)
    plan = with_balance(plan, measured.levels, spans_of(runs), outlet)
    return Job(
        order=order,
        source=survey.source(channels),
        facts=measured.facts,
        frames=measured.levels.frames,
        plan=plan,
        chain=plan.chain(measured.levels.envelope),
        encoding=encoding,
        demands=demands,
        runs=runs,
        partial=partial_of(order.target),
        best=partial_of(order.target),
    )


def _planned_in_parts(
    survey: Survey, order: Order, content_kind: str, treatment: Treatment, channels: int, passages: list[Passage]
) -> Job:
    """As `planned`, for a programme whose passages are levelled before they are joined."""
    base, outlet = survey.source(channels), order.outlet
    if not isinstance(base, Programme):
        raise ValueError("only a programme has passages")
    source = levelled_parts(base, passages)
    measured = measured_for(source, channels=channels, rumble_hz=treatment.measured_hz)
    encoding = outlet.encoding(channels=channels, content_kind=content_kind)
    plan = plan_parted(
        measured.levels,
        passages,
        outlet,
        channels=channels,
        content_kind=content_kind,
        lossy=encoding.lossy,
        treatment=treatment,
        known=survey.known(channels),
        unsteadiness_db=partial(survey.unsteadiness_db, channels, content_kind),
    )
    runs = survey.runs(channels, content_kind)
    plan = with_balance(plan, measured.levels, spans_of(runs), outlet)
    return Job(
        order=order,
        source=source,
        base=base,
        passages=passages,
        runs=runs,
        facts=measured.facts,
        frames=measured.levels.frames,
        plan=plan,
        chain=plan.chain(measured.levels.envelope),
        encoding=encoding,
        demands={},
        partial=partial_of(order.target),
        best=partial_of(order.target),
    )


def alike(jobs: list[Job]) -> list[list[Job]]:
    groups: dict[tuple[Any, ...], list[Job]] = defaultdict(list)
    for job in jobs:
        groups[job.treated_alike].append(job)
    return list(groups.values())


def chapters_of(job: Job) -> tuple[Chapter, ...]:
    """Chapter marks where they are in the finished file: what is put before the sound moves all but the first."""
    edges = job.chain.edges
    shift_s = edges.head_s
    end_s = job.frames / job.facts.sample_rate_hz + shift_s + edges.tail_s
    marks = job.order.inscription.chapters
    moved = [
        replace(
            mark,
            start_s=0.0 if mark.start_s <= 0 else max(0.0, mark.start_s + shift_s),
            end_s=end_s if mark is marks[-1] else mark.end_s + shift_s,
        )
        for mark in marks
    ]
    return tuple(mark for mark in moved if mark.start_s < mark.end_s)


def most_frames(job: Job) -> int:
    """How many samples the finished file has at most."""
    seconds = job.frames / job.facts.sample_rate_hz + job.chain.edges.tone_head_s + job.chain.edges.tone_tail_s
    return math.ceil((seconds + 1) * job.encoding.sample_rate_hz)
