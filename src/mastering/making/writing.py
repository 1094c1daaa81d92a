"""A section read and treated once, and levelled, encoded and inscribed for each file."""

import itertools
from collections.abc import Generator, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import replace

import numpy as np

from mastering.audio.beside import Behind
from mastering.audio.convert import resampled, to_held
from mastering.audio.encodings import Encoding
from mastering.audio.facts import FileFacts
from mastering.audio.formats import INT_16
from mastering.audio.overheard import Overheard
from mastering.audio.writers import can_be_overheard, encoder_gain_db, open_writer
from mastering.making.job import Job, chapters_of, most_frames
from mastering.making.survey import Sounding, levelled, opened
from mastering.meters.decibels import amplitude_of_db
from mastering.meters.measurement import Progress, watched
from mastering.outlets.levelplan import LevelPlan
from mastering.rendering import Programme
from mastering.shaping.chain import Chain, shaped
from mastering.tagging.writing import inscribe


def render(jobs: Sequence[Job], progress: Progress) -> None:
    """Read and treat a section once, and level, encode and inscribe it for each of these jobs."""
    chain, channels, frames = jobs[0].chain, jobs[0].encoding.channels, jobs[0].frames
    with opened(jobs[0].source) as reader, opened(jobs[0].source) as beside, ExitStack() as stack:
        blocks = shaped(watched(reader, progress=progress), chain, source=beside, frames=frames, channels=channels)
        rates_hz = list(dict.fromkeys(job.encoding.sample_rate_hz for job in jobs))
        running = []
        for rate_hz, given in zip(rates_hz, itertools.tee(blocks, len(rates_hz)), strict=True):
            at_rate = resampled(given, from_hz=reader.sample_rate_hz, to_hz=rate_hz, channels=channels)
            wanting = [job for job in jobs if job.encoding.sample_rate_hz == rate_hz]
            for job, copy in zip(wanting, itertools.tee(at_rate, len(wanting)), strict=True):
                written = _written(job, copy, edited=_is_edited(job.source, chain))
                # Whatever happens to one of them, none goes on writing afterwards.
                stack.callback(written.close)
                running.append(written)
        # In step, so that no more is kept of the sound than by what one encoder is behind another.
        while running:
            running = [each for each in running if next(each, None) is not None]
    for job in jobs:
        job.attempts += 1
        inscription = job.order.inscription
        if not inscription.empty:
            inscribe(job.partial, job.encoding.container, replace(inscription, chapters=chapters_of(job)))


def _written(job: Job, blocks: Iterator[np.ndarray], *, edited: bool) -> Generator[bool, None, None]:
    """Level and encode one file; yields after each block that was written."""
    encoding, plan = job.encoding, job.plan
    blocks = levelled(blocks, plan, sample_rate_hz=encoding.sample_rate_hz, channels=encoding.channels)
    blocks = to_held(
        blocks,
        holds=encoding.holds,
        dither=encoding.holds == INT_16 and _depth_drops(job.facts, plan, encoding, edited=edited),
        gain=amplitude_of_db(-encoder_gain_db(encoding)),
    )
    with ExitStack() as stack:
        if can_be_overheard(encoding):
            job.finds = job.new_finds()
            job.overheard = Overheard(encoding, job.finds.add)
            stack.callback(job.overheard.close)
        writer = open_writer(
            job.partial,
            encoding,
            frames=most_frames(job),
            broadcast=job.order.broadcast,
            chapters=chapters_of(job),
            listener=job.overheard,
        )
        stack.callback(writer.close)
        behind = Behind(writer.write)
        stack.callback(behind.close)
        for block in blocks:
            behind.put(block)
            yield True
        behind.finish()


def _is_edited(source: Sounding, chain: Chain) -> bool:
    return not chain.changes_nothing or (isinstance(source, Programme) and not source.untouched)


def _depth_drops(source: FileFacts, plan: LevelPlan, encoding: Encoding, *, edited: bool) -> bool:
    """Whether the samples have more digits than 16 bits hold when they are rounded."""
    whole = not edited and source.bit_depth is not None and source.bit_depth <= 16
    same_rate = source.sample_rate_hz == encoding.sample_rate_hz
    mixed = encoding.channels < source.channels
    return not (whole and same_rate and not mixed and plan.gain_db == 0 and not plan.limited_db)
