"""One section and its outlets: finished, verified files.

`make_all` is the list of the stages; what they have in common is done once for all outlets of a section.
"""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from mastering.errors import Cancelled, MasteringError
from mastering.making.job import Job, Order, alike, planned
from mastering.making.proving import Made, proven
from mastering.making.survey import Recordings, Survey
from mastering.making.timing import Clock, Stages
from mastering.making.writing import render
from mastering.outlets.outlet import Outlet
from mastering.rendering import Programme
from mastering.shaping.treatment import AS_IT_IS, Treatment


def make(
    source: Path | Programme,
    outlet: Outlet,
    target: Path,
    *,
    content_kind: str = "speech",
    treatment: Treatment = AS_IT_IS,
    recordings: Recordings | None = None,
    stages: Stages = lambda stage, share: None,
    **wishes: Any,
) -> Made:
    """Make one finished file; as `make_all` for one order, whose other fields are `wishes`.

    Raises
    ------
    UnreadableRecording, CannotMake, FileInTheWay, Cancelled
        Nothing is left behind in any of these cases.
    """
    order = Order(outlet=outlet, target=target, **wishes)
    (made,) = make_all(
        source, [order], content_kind=content_kind, treatment=treatment, recordings=recordings, stages=stages
    )
    if isinstance(made, MasteringError):
        raise made
    return made


def make_all(
    source: Path | Programme,
    orders: Sequence[Order],
    *,
    content_kind: str = "speech",
    treatment: Treatment = AS_IT_IS,
    recordings: Recordings | None = None,
    stages: Stages = lambda stage, share: None,
) -> list[Made | MasteringError]:
    """Make the finished files of one section by the rules of several outlets, and prove each.

    It is measured once for each number of channels and read and treated once for all outlets that treat it alike. Each
    file is written beside its target and moved there when it is whole and measured. Where a decoded file misses a level
    rule, gain and ceiling are corrected by what was found and it is made again, at most MOST_ATTEMPTS times in all; the
    best stands with its check sheet, whatever that says.

    Parameters
    ----------
    recordings
        What is known of the recordings in it (see `known_of`); they are measured where that is not given.

    Returns
    -------
    For each order what was made, or why it could not be.

    Raises
    ------
    UnreadableRecording, Cancelled, CannotMake, OSError
        Where what they have in common cannot be done. Nothing that is not whole is left behind.
    """
    clock = Clock(stages, len(orders))
    results: dict[int, Made | MasteringError] = {}
    jobs: list[Job] = []
    measuring = clock.stage("Measuring the recording")
    survey = Survey(source, treatment, recordings, content_kind=content_kind, progress=measuring)
    for number, order in enumerate(orders):
        try:
            job = planned(survey, order, content_kind, treatment)
        except Cancelled:
            raise
        except MasteringError as error:
            results[number] = error
            continue
        job.number = number
        jobs.append(job)
    # Envelopes of long recordings are the largest thing in memory and have done their work.
    del survey
    clock.plan(jobs)
    try:
        for together in alike(jobs):
            render(together, clock.encoding(together))
        for job in jobs:
            try:
                results[job.number] = proven(job, content_kind, clock)
            except Cancelled:
                raise
            except MasteringError as error:
                results[job.number] = error
    finally:
        for job in jobs:
            if job.finds:
                job.finds.close()
            job.partial.unlink(missing_ok=True)
            job.best.unlink(missing_ok=True)
    return [results[number] for number in range(len(orders))]
