"""What each file of a production sounds from, and its levels, measured once and kept in the cache."""

import hashlib
import json
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from mastering.errors import MasteringError
from mastering.meters.measurement import Measurement, Progress
from mastering.meters.meter import Levels
from mastering.outlets.outlet import Outlet
from mastering.pipeline import measured_for
from mastering.rendering import Programme
from mastering.shaping.treatment import AS_IT_IS, Treatment, treatment_of
from sermovox import storage
from sermovox.cutting.programmes import Assembly, opened
from sermovox.productions.models import Production, Section
from sermovox.recordings.models import Recording

_REFUSED_FOR_S = 600.0
"""So long what could not be measured is not tried again; its recording may be brought in anew meanwhile."""


class NotMeasured(MasteringError):
    """Levels that are wanted are not known yet."""


@dataclass(frozen=True, kw_only=True)
class Sounding:
    """What one file sounds from: a whole recording, or a programme as plain values.

    `section` is None for a file of the whole production. `refusal` says why nothing can be made of it.
    """

    section: Section | None
    title: str
    content_kind: str
    treatment: Treatment
    recording: Recording | None = None
    programme: dict | None = None
    refusal: str = ""


class Member:
    """A sounding for an outlet: a member of `mastering.outlets.setplan`, with its levels behind it."""

    def __init__(self, sounding: Sounding, outlet: Outlet, channels_of: Callable[[Sounding], int]):
        self.sounding = sounding
        self._outlet, self._channels_of = outlet, channels_of
        self.content_kind = sounding.content_kind
        self.treatment = sounding.treatment
        self._source_channels = 1 if sounding.refusal else channels_of(sounding)
        self.channels = outlet.channels_for(min(2, self._source_channels))

    def like(self, sounding: Sounding) -> "Member":
        """Another sounding for the same outlet."""
        return Member(sounding, self._outlet, self._channels_of)

    @property
    def source(self) -> Path | Programme:
        if self.sounding.programme is not None:
            return opened(self.sounding.programme)
        return self.sounding.recording.path

    @cached_property
    def key(self) -> str:
        """The hash of what its levels follow from."""
        sounds = self.sounding.programme or self.sounding.recording.sha256
        return digest([sounds, self.channels, self.treatment.rumble_hz])

    @property
    def _path(self) -> Path:
        return storage.cached(self.key, "levels.npz")

    @property
    def is_measured(self) -> bool:
        if self._path.exists():
            return True
        return self._is_as_recorded and storage.cached(self.sounding.recording.sha256, "measurement.npz").exists()

    @property
    def _is_as_recorded(self) -> bool:
        recording = self.sounding.recording
        whole = self.sounding.programme is None and not self.treatment.rumble_hz
        return whole and recording.figures.get("channels") == self.channels

    @property
    def refusal(self) -> str:
        """Why it could not be measured, or nothing."""
        if self.sounding.refusal:
            return self.sounding.refusal
        if self._source_channels > 2:
            return (
                f"This recording has {self._source_channels} channels, and outlets take mono or stereo. "
                "Mix it down to one or two channels first."
            )
        with suppress(OSError):
            if time.time() - self._refused_path.stat().st_mtime < _REFUSED_FOR_S:
                return self._refused_path.read_text("utf-8")
        return ""

    @property
    def _refused_path(self) -> Path:
        return storage.cached(self.key, "refused.txt")

    def refuse(self, reason: str) -> None:
        """Keep why it cannot be measured, so that it is not tried again and again."""
        with storage.whole(self._refused_path) as path:
            path.write_text(reason, "utf-8")

    def measurement(self) -> Measurement | None:
        """All that was measured, if the cache has it."""
        if self._is_as_recorded and (found := self.sounding.recording.kept_measurement()):
            return found
        with suppress(OSError, ValueError, KeyError, TypeError):
            return Measurement.load(self._path)
        return None

    def measure(self, progress: Progress | None = None) -> Measurement:
        """What was measured, measuring it now where it has to be. Raises UnreadableRecording."""
        found = self.measurement()
        if found is None:
            found = measured_for(
                self.source, channels=self.channels, rumble_hz=self.treatment.rumble_hz, progress=progress
            )
            with storage.whole(self._path) as path:
                found.save(path)
        return found

    @property
    def levels(self) -> Levels:
        found = self.measurement()
        if found is None:
            raise NotMeasured("This section is being measured. It takes a moment.")
        return found.levels


class Soundings:
    """What the files of a production sound from, read once."""

    def __init__(self, production: Production):
        self._production = production
        self._made = Assembly(production)

    @cached_property
    def _channels(self) -> dict[str, int]:
        rows = self._production.recordings.values_list("sha256", "figures__channels")
        return {sha256: channels or 1 for sha256, channels in rows}

    def channels_of(self, sounding: Sounding) -> int:
        """How many channels it has before it is made for an outlet."""
        if sounding.programme is None:
            return sounding.recording.figures.get("channels") or 1
        tracks = [track["sha256"] for own in sounding.programme["tracks"].values() for track in own]
        return max(self._channels.get(sha256, 1) for sha256 in tracks)

    def of(self, sections: Sequence[Section], outlet: Outlet) -> list[Sounding]:
        """One for each file that would be made, in order; sections without a recording have none."""
        if outlet.joined:
            return self._whole(sections)
        return [sounding for section in sections for sounding in self._of(section)]

    def members(self, sections: Sequence[Section], outlet: Outlet) -> list[Member]:
        """As `of`, for what it takes to plan them."""
        settled = self.settled(sections, outlet)
        return [Member(sounding, settled, self.channels_of) for sounding in self.of(sections, outlet)]

    def settled(self, sections: Sequence[Section], outlet: Outlet) -> Outlet:
        """An outlet for a run over these sections: where it wants all files alike, it is settled how."""
        if not outlet.same_channels:
            return outlet
        return outlet.settled([self.channels_of(each) for each in self.of(sections, outlet) if not each.refusal])

    def beside(self, member: Member, outlet: Outlet) -> list[Member]:
        """A member and all others of its production that can be planned; those after it come first, so that several
        workers begin with different ones.
        """
        if outlet.joined:
            return [member]
        members = self.members(list(self._production.sections.select_related("recording")), outlet)
        at = next((at for at, other in enumerate(members) if other.key == member.key), 0)
        others = [other for other in members[at:] + members[:at] if not other.refusal and other.key != member.key]
        return [member, *others]

    def _of(self, section: Section) -> list[Sounding]:
        facts = {"section": section, "content_kind": section.content_kind, "treatment": section.wishes}
        recording = section.recording
        if recording is None and not section.programme:
            return []
        if recording is not None and not recording.ready and not section.programme:
            refusal = recording.refusal or "This recording is still being measured. It takes a moment."
            return [Sounding(title=section.title, refusal=refusal, **facts)]
        try:
            voices = self._made.voices(section)
        except MasteringError as error:
            return [Sounding(title=section.title, refusal=str(error), **facts)]
        if not voices:
            return [Sounding(title=section.title, recording=recording, **facts)]
        return [
            Sounding(
                title=f"{section.title} ({voice.name})" if voice.name else section.title,
                recording=recording,
                programme=voice.programme,
                **facts,
            )
            for voice in voices
        ]

    def _whole(self, sections: Sequence[Section]) -> list[Sounding]:
        facts = {
            "section": None,
            "title": self._production.title,
            "content_kind": content_of(sections),
            "treatment": common_treatment(sections),
        }
        try:
            pieces = self._made.pieces([stretch for section in sections for stretch in section.stretches()])
            if not pieces:
                return []
            return [Sounding(programme=self._made.voices_of(pieces, mixed=True)[0].programme, **facts)]
        except MasteringError as error:
            return [Sounding(refusal=str(error), **facts)]


def content_of(sections: Sequence[Section]) -> str:
    """What sections hold together: what all of them hold, or a mixture."""
    kinds = {section.content_kind for section in sections}
    return kinds.pop() if len(kinds) == 1 else Section.Content.MIXED


def common_treatment(sections: Sequence[Section]) -> Treatment:
    """What all sections that go into one file agree on."""
    first, *rest = [section.treatment for section in sections] or [{}]
    agreed = {name: value for name, value in first.items() if all(other.get(name) == value for other in rest)}
    # A place in one section is none in the whole.
    agreed.pop("noise_s", None)
    return treatment_of(agreed) if agreed else AS_IT_IS


def digest(values) -> str:
    """A hash of plain values."""
    return hashlib.sha256(json.dumps(values, sort_keys=True).encode()).hexdigest()
