"""One section and its outlets: finished, verified files.

`make_all` is the list of the stages; what they have in common is done once for all outlets of a section.
"""

import itertools
import math
from collections import defaultdict
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from contextlib import ExitStack, closing
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from pathlib import Path
from typing import Any

import numpy as np

from mastering.audio.beside import Behind
from mastering.audio.convert import resampled, to_held
from mastering.audio.encodings import Encoding, said_of
from mastering.audio.facts import FileFacts
from mastering.audio.formats import FLOAT_32, INT_16
from mastering.audio.overheard import Overheard
from mastering.audio.placing import partial_of, put_in_place
from mastering.audio.reader import Reader
from mastering.audio.wav import Broadcast
from mastering.audio.waveform import WaveformWriter
from mastering.audio.writers import can_be_overheard, encoder_gain_db, open_writer
from mastering.certain import certain
from mastering.editing.pieces import Piece, Span
from mastering.errors import Cancelled, CannotMake, FileInTheWay, MasteringError
from mastering.meters import steadiness
from mastering.meters.decibels import amplitude_of_db
from mastering.meters.kweighting import CHANNEL_NAMES
from mastering.meters.measurement import Measurement, Progress, measure, measure_opened, watched
from mastering.meters.meter import Levels, Meter
from mastering.outlets.balance import MUSIC, Run, runs_of, spans_of, with_balance
from mastering.outlets.checksheet import HeldPassage, check
from mastering.outlets.demands import Demand, Range
from mastering.outlets.findings import FAIL, CheckSheet
from mastering.outlets.known import Known, known_of
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import Outlet
from mastering.outlets.passages import Passage, PassageMeters, levelled_parts, passages_of, plan_parted
from mastering.outlets.planning import corrected, plan_levels
from mastering.outlets.rules.levels import LOUDNESS_RULES, PEAK_RULES
from mastering.rendering import Folded, FoldedReader, Programme, ProgrammeReader, Track
from mastering.shaping.chain import Chain, shaped
from mastering.shaping.gain import gained
from mastering.shaping.limiter import limited
from mastering.shaping.mends import fit_for
from mastering.shaping.rumble import without_rumble
from mastering.shaping.treatment import AS_IT_IS, Treatment
from mastering.tagging.carried import read_carried
from mastering.tagging.inscription import Chapter, Inscription
from mastering.tagging.writing import inscribe

MOST_ATTEMPTS = 5
Stages = Callable[[str, float], None]
"""Called with the name of the stage at work and the share of the whole that is done, 0.0 to 1.0."""
Recordings = Callable[[], Mapping[Path, tuple[str, Mapping[str, Any]]]]
"""What each recording of a source is called and what its slip keeps, by its path; asked for when it is needed."""
Sounding = Path | Folded | Programme
"""What sound is read from."""


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
    clock = _Clock(stages, len(orders))
    results: dict[int, Made | MasteringError] = {}
    jobs: list[_Job] = []
    measuring = clock.stage("Measuring the recording")
    survey = Survey(source, treatment, recordings, content_kind=content_kind, progress=measuring)
    for number, order in enumerate(orders):
        try:
            job = _planned(survey, order, content_kind, treatment)
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
        for together in _alike(jobs):
            _render(together, clock.encoding(together))
        for job in jobs:
            try:
                results[job.number] = _proven(job, content_kind, clock)
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


class Survey:
    """What is found out of a source before anything is made of it, once for all that is made.

    `recordings` as for `make_all`.
    """

    def __init__(
        self,
        source: Path | Programme,
        treatment: Treatment = AS_IT_IS,
        recordings: Recordings | None = None,
        *,
        content_kind: str = "speech",
        progress: Progress | None = None,
    ):
        self._source, self._treatment, self._progress = source, treatment, progress
        self._content_kind = content_kind
        self._recordings = recordings
        self._measured: dict[tuple[int, float], Measurement] = {}
        self._known: dict[int, Known] = {}

    @cached_property
    def channels(self) -> int:
        """How many channels the source has. Raises UnreadableRecording."""
        with opened(self._source) as sound:
            return int(sound.channels)

    def channels_for(self, outlet: Outlet, content_kind: str) -> int:
        """How many channels an outlet takes it in. Raises CannotMake for more than two sides."""
        if self.channels > 2:
            raise CannotMake(
                f"This recording has {self.channels} channels, and {outlet.title} takes mono or stereo. "
                "Mix it down to one or two channels first."
            )
        return outlet.channels_for(self.channels, content_kind=content_kind)

    def known(self, channels: int) -> Known:
        """What matters of its recordings for a file with so many channels."""
        if channels not in self._known:
            facts, parted = self._facts, self._source.parted if isinstance(self._source, Programme) else ()
            # Of sides that are voices of their own nothing is folded.
            own = {
                path: (name, {**figures, "channels": 1} if path in parted else figures)
                for path, (name, figures) in facts.items()
            }
            self._known[channels] = known_of(
                own, channels=channels, wish=self._treatment.mono, mends=self._treatment.mends
            )
        return self._known[channels]

    @cached_property
    def _facts(self) -> Mapping[Path, tuple[str, Mapping[str, Any]]]:
        if self._recordings is not None:
            return self._recordings()
        if isinstance(self._source, Path):
            whole = measure(self._source, progress=self._progress)
            if not self._treatment.mends:
                self._measured[whole.levels.channels, 0.0] = whole
            return {self._source: (self._source.name, whole.figures() | whole.origin())}
        paths = dict.fromkeys(track.path for own in self._source.tracks.values() for track in own)
        return {path: (path.name, (found := measure(path)).figures() | found.origin()) for path in paths}

    def source(self, channels: int) -> Sounding:
        """The source as a file with so many channels is made of it."""
        source = self._mended
        if channels > 1 or self.channels == 1:
            return source
        folds = self.known(channels).folds
        if isinstance(source, Programme):
            return source.folded(folds)
        return Folded(source, folds[source]) if source in folds else source

    @cached_property
    def _mended(self) -> Path | Programme:
        """The source with all that is mended of it."""
        source, mends = self._source, fit_for(self._treatment.mends, self._content_kind)
        if mends and isinstance(source, Path):
            _, figures = self._facts[source]
            source = Programme([Piece(span=Span(source.name, 0, figures["frames"]))], {source.name: [Track(source)]})
        return source.mended(mends, self._content_kind) if isinstance(source, Programme) else source

    def passages(self, outlet: Outlet, channels: int, content_kind: str) -> list[Passage]:
        """Its passages of speech and of music, where an outlet asks something else of each; none otherwise."""
        source = self.source(channels)
        if not isinstance(source, Programme):
            return []
        return passages_of(
            source,
            outlet,
            channels=channels,
            content_kind=content_kind,
            measured=lambda part: measured_for(part, channels=channels).levels,
        )

    def runs(self, channels: int, content_kind: str) -> list[Run]:
        """What it holds one after the other, where that is not one kind."""
        source = self.source(channels)
        return runs_of(source, content_kind) if isinstance(source, Programme) else []

    def unsteadiness_db(self, channels: int, content_kind: str) -> float | None:
        """How much what is heard in the pauses of its speech varies."""
        runs = self.runs(channels, content_kind)
        within_s = [(run.start_s, run.end_s) for run in runs if run.kind != MUSIC] if runs else None
        pauses = steadiness.pauses_to_compare(self.measured(channels).levels.envelope, within_s)
        with opened(self.source(channels)) as sound:
            return steadiness.unsteadiness_db(
                pauses, lambda *edges: np.concatenate([*sound.stretch(*edges)]), sound.sample_rate_hz
            )

    def measured(self, channels: int, *, filtered: bool = False) -> Measurement:
        """Its levels in so many channels, as they are planned by: through the rumble filter where that is on, or with
        `filtered` where it is to be on if needed.
        """
        rumble_hz = self._treatment.rumble_hz if filtered else self._treatment.measured_hz
        source = self.source(channels)
        if (channels, rumble_hz) not in self._measured:
            self._measured[channels, rumble_hz] = measured_for(
                source, channels=channels, rumble_hz=rumble_hz, progress=self._progress
            )
        return self._measured[channels, rumble_hz]


def measured_for(
    source: Sounding, *, channels: int, rumble_hz: float = 0.0, progress: Progress | None = None
) -> Measurement:
    """Measure a whole recording or programme in so many channels, after the rumble filter where there is one.

    Raises UnreadableRecording.
    """

    def through(blocks: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
        return without_rumble(blocks, cutoff_hz=rumble_hz, sample_rate_hz=sound.sample_rate_hz) if rumble_hz else blocks

    with opened(source) as sound:
        return measure_opened(sound, channels=channels, of_recording=False, through=through, progress=progress)


def opened(source: Sounding) -> Reader | FoldedReader | ProgrammeReader:
    """Start reading a recording or a programme."""
    return Reader(source) if isinstance(source, Path) else source.opened()


def levelled(
    blocks: Iterator[np.ndarray], plan: LevelPlan, *, sample_rate_hz: int, channels: int
) -> Iterator[np.ndarray]:
    """Gain and limiter as planned."""
    blocks = gained(blocks, plan.gain_db)
    if plan.ceiling_dbtp is None:
        return blocks
    return limited(blocks, ceiling_dbtp=plan.ceiling_dbtp, sample_rate_hz=sample_rate_hz, channels=channels)


@dataclass(kw_only=True)
class _Job:
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
    finds: "_Finds | None" = None
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
        self.remarks.append("A passage missed its level in the first file; its gain was changed and it was made again.")
        return True


def _planned(survey: Survey, order: Order, content_kind: str, treatment: Treatment) -> _Job:
    if order.target.exists() and not order.replace:
        raise FileInTheWay(f"{order.target.name} exists already. Move it away, or allow it to be replaced.")
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
    return _Job(
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
) -> _Job:
    """As `_planned`, for a programme whose passages are levelled before they are joined."""
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
    return _Job(
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


def _alike(jobs: list[_Job]) -> list[list[_Job]]:
    groups: dict[tuple[Any, ...], list[_Job]] = defaultdict(list)
    for job in jobs:
        groups[job.treated_alike].append(job)
    return list(groups.values())


@dataclass(frozen=True)
class _Tried:
    """One attempt at a file: how many of its level rules are missed, and by how much together, LU or dB; with its plan
    and figures.
    """

    missed_by: tuple[int, float]
    plan: LevelPlan
    found: Measurement
    parts: list[Levels]


def _bettered(job: _Job, found: Measurement) -> LevelPlan | None:
    takes_more = job.encoding.holds == FLOAT_32
    return corrected(
        job.plan,
        found.levels,
        job.demands,
        lossy=job.encoding.lossy,
        **({"highest_ceiling_dbtp": math.inf} if takes_more else {}),
    )


def _missed_by(found: Levels, job: _Job, parts: Sequence[Levels]) -> tuple[int, float]:
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


def _proven(job: _Job, content_kind: str, clock: "_Clock") -> Made:
    """Measure the finished file, make it again where that can better it, and give it its name."""
    best: _Tried | None = None
    while True:
        found, parts = _found(job, clock.stage("Checking the finished file"))
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
        _render([job], clock.stage("Levelling and encoding"))
    if best is not None and best.missed_by < tried.missed_by:
        job.best.replace(job.partial)
        tried, job.plan, found, parts = best, best.plan, best.found, best.parts
    if tried.missed_by[0] and job.attempts > 1:
        job.remarks.append(
            f"Of {job.attempts} attempts the nearest is kept: gain and ceiling were moved as far as the encoder and "
            "the limiter, which is not to flatten the voice, leave room for."
        )
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


def _collisions(plan: LevelPlan, sheet: CheckSheet) -> list[str]:
    """What was foreseen to stand in the way, but for what the finished file disproves."""
    held = {finding.rule for finding in sheet.findings if finding.verdict != FAIL}
    return [sentence for rule, sentence in zip(plan.collided, plan.collisions, strict=True) if rule not in held]


def _render(jobs: Sequence[_Job], progress: Progress) -> None:
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
            inscribe(job.partial, job.encoding.container, replace(inscription, chapters=_chapters(job)))


def _written(job: _Job, blocks: Iterator[np.ndarray], *, edited: bool) -> Generator[bool, None, None]:
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
            job.finds = _Finds(job)
            job.overheard = Overheard(encoding, job.finds.add)
            stack.callback(job.overheard.close)
        writer = open_writer(
            job.partial,
            encoding,
            frames=_most_frames(job),
            broadcast=job.order.broadcast,
            chapters=_chapters(job),
            listener=job.overheard,
        )
        stack.callback(writer.close)
        behind = Behind(writer.write)
        stack.callback(behind.close)
        for block in blocks:
            behind.put(block)
            yield True
        behind.finish()


def _most_frames(job: _Job) -> int:
    """How many samples the finished file has at most."""
    seconds = job.frames / job.facts.sample_rate_hz + job.chain.edges.tone_head_s + job.chain.edges.tone_tail_s
    return math.ceil((seconds + 1) * job.encoding.sample_rate_hz)


def _chapters(job: _Job) -> tuple[Chapter, ...]:
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


def _is_edited(source: Sounding, chain: Chain) -> bool:
    return not chain.changes_nothing or (isinstance(source, Programme) and not source.untouched)


class _Finds:
    """What one pass over the samples of a finished file finds: its levels, those of its passages, its waveform."""

    def __init__(self, job: _Job):
        self._rate_hz, self._channels = job.encoding.sample_rate_hz, job.encoding.channels
        self._meter = Meter(self._rate_hz, CHANNEL_NAMES[self._channels], of_recording=False)
        self._passages = PassageMeters(job.spans, sample_rate_hz=self._rate_hz, channels=self._channels)
        self._waveform = WaveformWriter(job.order.waveform) if job.order.waveform else None

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


def _found(job: _Job, progress: Progress) -> tuple[Measurement, list[Levels]]:
    """What the finished file holds, and each of its passages: as it was heard while it was written, where it is proven
    to be what was heard; decoded and measured now, where not.
    """
    if job.overheard and job.finds:
        with closing(job.finds) as finds:
            facts = job.overheard.facts_of(job.partial)
        if facts:
            progress(1.0)
            return Measurement(facts, finds.levels()), finds.passages()
    with closing(_Finds(job)) as finds:
        return measure(job.partial, also=finds.add_beside, of_recording=False, progress=progress), finds.passages()


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


class _Clock:
    """Shares of the whole, weighed by what each stage costs on speech made into MP3 (measured by bin/bench)."""

    _MEASURING = 0.12
    _CHECKING, _CHECKING_OVERHEARD = 0.18, 0.02

    def __init__(self, stages: Stages, files: int):
        self._checking = self._CHECKING
        self._stages, self._files = stages, files
        self._checked = self._encoded = 0
        self._told = 0.0

    def plan(self, jobs: Sequence[_Job]) -> None:
        """From now on these are made: what is heard while it is written is soon proven."""
        if all(can_be_overheard(job.encoding) for job in jobs):
            self._checking = self._CHECKING_OVERHEARD

    @property
    def _encoding(self) -> float:
        return 1.0 - self._MEASURING - self._checking

    def encoding(self, jobs: Sequence[_Job]) -> Progress:
        """The stage that encodes these files together."""
        start, self._encoded = self._encoded, self._encoded + len(jobs)
        length = self._encoding * len(jobs) / self._files
        return self._progress("Levelling and encoding", self._MEASURING + self._encoding * start / self._files, length)

    def stage(self, name: str) -> Progress:
        if name == "Measuring the recording":
            return self._progress(name, 0.0, self._MEASURING)
        done = self._MEASURING + self._encoding + self._checking * self._checked / self._files
        return self._progress(name, done, self._checking / self._files)

    def done(self) -> None:
        """One file is finished."""
        self._checked += 1
        self._tell("Checking the finished file", self._MEASURING + self._encoding + self._checking * self._share)

    @property
    def _share(self) -> float:
        return self._checked / self._files

    def _progress(self, name: str, start: float, length: float) -> Progress:
        return lambda share: self._tell(name, start + length * share)

    def _tell(self, name: str, whole: float) -> None:
        # It never goes back, even where a file has to be made again.
        self._told = max(self._told, min(1.0, whole))
        self._stages(name, self._told)
