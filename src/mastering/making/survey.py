"""What is found out of a source before anything is made of it."""

from collections.abc import Callable, Iterator, Mapping
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from mastering.audio.reader import Reader
from mastering.editing.pieces import Piece, Span
from mastering.errors import CannotMake
from mastering.meters import steadiness
from mastering.meters.measurement import Measurement, Progress, measure, measure_opened
from mastering.outlets.balance import MUSIC, Run, runs_of
from mastering.outlets.known import Known, known_of
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import Outlet
from mastering.outlets.passages import Passage, passages_of
from mastering.rendering import Folded, FoldedReader, Programme, ProgrammeReader, Track
from mastering.said import Said
from mastering.shaping.gain import gained
from mastering.shaping.limiter import limited
from mastering.shaping.mends import fit_for
from mastering.shaping.rumble import without_rumble
from mastering.shaping.treatment import AS_IT_IS, Treatment

Recordings = Callable[[], Mapping[Path, tuple[str, Mapping[str, Any]]]]
"""What each recording of a source is called and what its slip keeps, by its path; asked for when it is needed."""
Sounding = Path | Folded | Programme
"""What sound is read from."""


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
            raise CannotMake(Said("recording-channels-takes-mono-stereo", channels=self.channels, title=outlet.title))
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
