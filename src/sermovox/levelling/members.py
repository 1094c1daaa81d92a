"""The files of a production as members of a set to be planned: their levels, measured once and kept in the cache."""

import json
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any, cast

from mastering.certain import certain
from mastering.editing.pieces import as_list
from mastering.errors import MasteringError
from mastering.making.survey import Sounding as Sound
from mastering.making.survey import Survey, measured_for
from mastering.meters.measurement import Measurement, Progress
from mastering.meters.meter import Levels
from mastering.meters.sides import SUM
from mastering.outlets.balance import runs_of, spans_of
from mastering.outlets.known import Known
from mastering.outlets.outlet import Outlet
from mastering.outlets.passages import Passage, levelled_parts, own_rules, passages_of
from mastering.rendering import Programme
from mastering.said import Said
from mastering.shaping.treatment import ALWAYS
from sermovox.cutting.programmes import opened
from sermovox.keeping import caches, storage
from sermovox.productions.models import Section
from sermovox.sources.soundings import Sounding, Soundings, digest

_REFUSED_FOR_S = 600.0
"""So long what could not be measured is not tried again; its recording may be brought in anew meanwhile."""


class NotMeasured(MasteringError):
    """Levels that are wanted are not known yet."""


class Member:
    """A sounding for an outlet: a member of `mastering.outlets.setplan`, with its levels behind it."""

    def __init__(self, sounding: Sounding, outlet: Outlet):
        self.sounding = sounding
        self._outlet = outlet
        self.content_kind = sounding.content_kind
        self.treatment = sounding.treatment
        self.channels = sounding.channels_for(outlet)

    def like(self, sounding: Sounding) -> "Member":
        """Another sounding for the same outlet."""
        return Member(sounding, self._outlet)

    @property
    def whole(self) -> Path | Programme:
        """What it sounds from, in all its channels."""
        if self.sounding.programme is not None:
            return opened(self.sounding.programme)
        return certain(self.sounding.recording).path

    @cached_property
    def _survey(self) -> Survey:
        return Survey(self.whole, self.treatment, self.sounding.slips, content_kind=self.content_kind)

    @property
    def source(self) -> Sound:
        """What its file is made from: the same, made mono where that is wanted."""
        if self._asked_of_kinds:
            return levelled_parts(self._programme, self.passages)
        return self._survey.source(self.channels)

    @property
    def recorded(self) -> Sound:
        """The same with nothing mended, to be held against it."""
        return self.like(replace(self.sounding, treatment=replace(self.treatment, mends=()))).source

    @property
    def _programme(self) -> Programme:
        """The source of a member that is a programme: only that has passages."""
        return cast(Programme, self._survey.source(self.channels))

    @property
    def known(self) -> Known:
        """What is known of its recordings and matters for its file."""
        return self._survey.known(self.channels)

    @cached_property
    def key(self) -> str:
        """The hash of what its levels follow from: all that `_survey` is given, and what `measure` adds to it."""
        sounds = self.sounding.programme or certain(self.sounding.recording).sha256
        folds = sorted(self.known.folds.values()) if self._is_folded else []
        # What is mended depends on what it holds.
        mended = [self.content_kind, *self.treatment.mends]
        return digest([sounds, self.channels, self.treatment.measured_hz, folds, self._asked_of_kinds, mended])

    @property
    def facts(self) -> list[Any]:
        """All of it that a plan follows from, as plain values."""
        return [self.key, self.content_kind, self.channels, self.treatment.as_dict(), repr(self.known)]

    @property
    def _asked_of_kinds(self) -> str:
        """What the outlet asks otherwise of speech than of music, where both are in it: passages follow from that."""
        pieces = self.sounding.programme["pieces"] if self.sounding.programme else ()
        if len({piece.get("kind") or self.content_kind for piece in pieces}) < 2:
            return ""
        names = own_rules(self._outlet, self.channels)
        asked = [self._outlet.demands(channels=self.channels, content_kind=kind) for kind in ("speech", "music")]
        return repr([[demands.get(name) for name in sorted(names)] for demands in asked]) if names else ""

    @cached_property
    def passages(self) -> list[Passage]:
        """Its passages with the level each gets, where it has any. Raises NotMeasured while one is not measured."""
        return self._parted(self._kept_part) if self._asked_of_kinds else []

    @cached_property
    def spans(self) -> list[tuple[str, float, float]]:
        """What it holds one after the other, where that is not one kind: (kind, start and end in seconds)."""
        if self.sounding.programme is None:
            return []
        return spans_of(runs_of(self._programme, self.content_kind))

    def unsteadiness_db(self) -> float | None:
        """How much what is heard in the pauses of its speech varies; kept once it is known."""
        path = storage.cached(digest([self.key, "pauses"]), "varies.json")
        with suppress(FileNotFoundError, ValueError):
            kept: float | None = json.loads(caches.read(path))
            return kept
        found = self._survey.unsteadiness_db(self.channels, self.content_kind)
        caches.keep(path, json.dumps(found).encode())
        return found

    def _parted(self, measured: Callable[[Programme], Levels]) -> list[Passage]:
        return passages_of(
            self._programme,
            self._outlet,
            channels=self.channels,
            content_kind=self.content_kind,
            measured=measured,
        )

    def _part_path(self, part: Programme) -> Path:
        tracks = {
            name: [[str(t.path), t.offset_samples, t.gain_db, t.fold] for t in own] for name, own in part.tracks.items()
        }
        return storage.cached(digest([as_list(part.pieces), tracks, self.channels]), "levels.npz")

    def _kept_part(self, part: Programme) -> Levels:
        with suppress(OSError):
            return Measurement.load(caches.judged(self._part_path(part))).levels
        raise NotMeasured(Said("passage-section-being-measured-takes"))

    def _measured_part(self, part: Programme) -> Levels:
        with suppress(NotMeasured):
            return self._kept_part(part)
        found = measured_for(part, channels=self.channels)
        with caches.making(self._part_path(part)) as path:
            found.save(path)
        return found.levels

    @property
    def _is_folded(self) -> bool:
        return self.channels == 1 and self.sounding.channels == 2

    @property
    def _path(self) -> Path:
        return storage.cached(self.key, "levels.npz")

    @cached_property
    def _through_filter(self) -> "Member | None":
        """The same through its rumble filter, where that is to be on if needed."""
        if not self.treatment.needs_both:
            return None
        return self.like(replace(self.sounding, treatment=replace(self.treatment, rumble=ALWAYS)))

    @property
    def is_measured(self) -> bool:
        return self._is_known and (self._through_filter is None or self._through_filter._is_known)

    @property
    def _is_known(self) -> bool:
        return any(caches.is_kept(path) for path in self._paths)

    @property
    def _paths(self) -> list[Path]:
        """Where its levels may be kept: as they were measured when a recording was taken in, if it is that as it came,
        in its own channels or with its two sides summed; and as they were measured for itself.
        """
        whole = self.sounding.programme is None and not self.treatment.measured_hz and not self.treatment.mends
        recording = self.sounding.recording
        if not whole or recording is None:
            return [self._path]
        if recording.figures.get("channels") == self.channels:
            return [recording.measurement_path(), self._path]
        if self._is_folded and self.known.folds.get(recording.path) == SUM:
            return [recording.measurement_path(mono=True), self._path]
        return [self._path]

    @property
    def refusal(self) -> str:
        """Why it could not be measured, or nothing."""
        if self.sounding.refusal:
            return self.sounding.refusal
        if self.sounding.channels > 2:
            return Said("recording-channels-outlets-take-mono", channels=self.sounding.channels)
        with suppress(OSError):
            if time.time() - self._refused_path.stat().st_mtime < _REFUSED_FOR_S:
                return caches.read(self._refused_path).decode()
        return ""

    @property
    def _refused_path(self) -> Path:
        return storage.cached(self.key, "refused.txt")

    def refuse(self, reason: str) -> None:
        """Keep why it cannot be measured, so that it is not tried again and again."""
        caches.keep(self._refused_path, reason.encode())

    def measurement(self) -> Measurement | None:
        """All that was measured, if the cache has it."""
        for path in self._paths:
            with suppress(OSError):
                return Measurement.load(caches.judged(path))
        return None

    def measure(self, progress: Progress | None = None) -> Measurement:
        """What was measured, measuring it now where it has to be. Raises UnreadableRecording."""
        found = self.measurement()
        if found is None:
            source = self._survey.source(self.channels)
            if self._asked_of_kinds:
                source = levelled_parts(self._programme, self._parted(self._measured_part))
            found = measured_for(
                source, channels=self.channels, rumble_hz=self.treatment.measured_hz, progress=progress
            )
            with caches.making(self._path) as path:
                found.save(path)
        if self._through_filter:
            self._through_filter.measure(progress)
        return found

    @property
    def levels(self) -> Levels:
        found = self.measurement()
        if found is None:
            raise NotMeasured(Said("section-being-measured-takes-moment"))
        return found.levels

    def filtered(self) -> Levels:
        """Its levels after the rumble filter that is to be on if needed."""
        return certain(self._through_filter).levels


def members_of(soundings: Soundings, sections: Sequence[Section], outlet: Outlet) -> list[Member]:
    """What it takes to plan the files of some sections."""
    settled = soundings.settled(outlet)
    return [Member(sounding, settled) for sounding in soundings.of(sections, outlet)]


def beside(member: Member, soundings: Sequence[Sounding]) -> list[Member]:
    """A member and all others that it is levelled with and that can be planned; those after it come first, so that
    several workers begin with different ones.
    """
    members = [member.like(sounding) for sounding in soundings]
    at = next((at for at, other in enumerate(members) if other.key == member.key), None)
    # One of the same sound stands for the member; another that sounds alike is another all the same.
    others = members if at is None else members[at + 1 :] + members[:at]
    return [member, *(other for other in others if not other.refusal)]
