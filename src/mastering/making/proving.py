"""Finished files measured, made again where that betters them, and given their names."""

import math
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from mastering.audio.encodings import said_of
from mastering.audio.formats import FLOAT_32
from mastering.audio.placing import put_in_place
from mastering.making.job import Job
from mastering.making.timing import Clock
from mastering.making.writing import render
from mastering.meters.measurement import Measurement, Progress, measure
from mastering.meters.meter import Levels
from mastering.outlets.checksheet import HeldPassage, check
from mastering.outlets.demands import Range
from mastering.outlets.findings import FAIL, CheckSheet
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.planning import corrected
from mastering.outlets.rules.levels import LOUDNESS_RULES, PEAK_RULES
from mastering.said import Said
from mastering.tagging.carried import read_carried

MOST_ATTEMPTS = 5


@dataclass(frozen=True, kw_only=True)
class Made:
    """A finished file, measured by decoding it again, and how it came about."""

    path: Path
    found: Measurement
    sheet: CheckSheet
    plan: LevelPlan
    attempts: int
    remarks: tuple[str, ...]


def proven(job: Job, content_kind: str, clock: Clock) -> Made:
    """Measure the finished file, make it again where that can better it, and give it its name."""
    best: _Tried | None = None
    while True:
        found, parts = found_in(job, clock.stage(Said("checking-finished-file")))
        tried = _Tried(_missed_by(found.levels, job, parts), job.plan, found, parts)
        better = None if job.attempts == MOST_ATTEMPTS else _bettered(job, found)
        if better is not None:
            job.remarks.append(_why_again(job.plan, better, found))
            job.plan = better
        elif job.attempts == MOST_ATTEMPTS or not job.bettered_passages(parts):
            break
        if best is None or tried.missed_by < best.missed_by:
            job.partial.replace(job.best)
            best = tried
        else:
            job.partial.unlink()
        render([job], clock.stage(Said("levelling-encoding")))
    if best is not None and best.missed_by < tried.missed_by:
        job.best.replace(job.partial)
        tried, job.plan, found, parts = best, best.plan, best.found, best.parts
    if tried.missed_by[0] and job.attempts > 1:
        job.remarks.append(Said("attempts-nearest-kept-gain-ceiling", attempts=job.attempts))
    order = job.order
    carried = read_carried(job.partial)
    order.proven()
    put_in_place(job.partial, order.target, replace=order.replace)
    clock.done()
    sheet = check(
        found,
        order.outlet,
        content_kind=content_kind,
        carried=carried,
        name=order.name or order.target.name,
        texts=order.texts,
        passages=[
            HeldPassage(passage.kind, *span, levels)
            for passage, span, levels in zip(job.passages, job.spans, parts, strict=True)
        ],
        spans=job.kinds,
    )
    return Made(
        path=order.target,
        found=found,
        sheet=sheet,
        plan=job.plan,
        attempts=job.attempts,
        remarks=(*_collisions(job.plan, sheet), *job.plan.remarks, *said_of(job.encoding), *job.remarks),
    )


@dataclass(frozen=True)
class _Tried:
    """One attempt at a file: how many of its level rules are missed, and by how much together, LU or dB; with its plan
    and figures.
    """

    missed_by: tuple[int, float]
    plan: LevelPlan
    found: Measurement
    parts: list[Levels]


def _bettered(job: Job, found: Measurement) -> LevelPlan | None:
    takes_more = job.encoding.holds == FLOAT_32
    return corrected(
        job.plan,
        found.levels,
        job.demands,
        lossy=job.encoding.lossy,
        **({"highest_ceiling_dbtp": math.inf} if takes_more else {}),
    )


def _missed_by(found: Levels, job: Job, parts: Sequence[Levels]) -> tuple[int, float]:
    """How many rules for gain and ceiling a finished file, or its passages, miss, and by how much together."""
    held = [
        (found, job.demands),
        *((levels, passage.demands) for levels, passage in zip(parts, job.passages, strict=True)),
    ]
    misses = [
        demand.missed_by(getattr(levels, name))
        for levels, demands in held
        for name, demand in demands.items()
        if name in (*LOUDNESS_RULES, *PEAK_RULES) and isinstance(demand, Range)
    ]
    return sum(miss > 0 for miss in misses), sum(misses)


def _collisions(plan: LevelPlan, sheet: CheckSheet) -> list[str]:
    """What was foreseen to stand in the way, but for what the finished file disproves."""
    held = {finding.rule for finding in sheet.findings if finding.verdict != FAIL}
    return [sentence for rule, sentence in zip(plan.collided, plan.collisions, strict=True) if rule not in held]


def _why_again(plan: LevelPlan, better: LevelPlan, found: Measurement) -> str:
    if better.ceiling_dbtp != plan.ceiling_dbtp:
        return Said(
            "encoding-pushed-true-peak-dbtp",
            true_peak_dbtp=found.levels.true_peak_dbtp,
            ceiling_dbtp=better.ceiling_dbtp,
        )
    return Said("first-file-missed-level-gain", gain_db=better.gain_db)


def found_in(job: Job, progress: Progress) -> tuple[Measurement, list[Levels]]:
    """What the finished file holds, and each of its passages: as it was heard while it was written, where it is proven
    to be what was heard; decoded and measured now, where not.
    """
    if job.overheard and job.finds:
        with closing(job.finds) as finds:
            facts = job.overheard.facts_of(job.partial)
        if facts:
            progress(1.0)
            return Measurement(facts, finds.levels()), finds.passages()
    with closing(job.new_finds()) as finds:
        return measure(job.partial, also=finds.add_beside, of_recording=False, progress=progress), finds.passages()
