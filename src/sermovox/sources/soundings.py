"""What each file of a production sounds from: which sound, in how many channels, what it holds, how it is encoded."""

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

from mastering.audio.encodings import Encoding
from mastering.certain import certain
from mastering.editing.assembly import of_kinds
from mastering.editing.roles import APART
from mastering.errors import MasteringError
from mastering.outlets.outlet import Outlet
from mastering.said import Said
from mastering.shaping.treatment import AS_IT_IS, Treatment, treatment_of
from sermovox.cutting.programmes import Assembly
from sermovox.productions.models import Production, Section, content_of
from sermovox.recordings.models import Recording

_UNKNOWN_CHANNELS = 1
"""What is taken for the channels of a section that has no recording yet."""


@dataclass(frozen=True, kw_only=True)
class Sounding:
    """What one file sounds from: a whole recording, or a programme as plain values.

    `section` is None for a file of the whole production, whose sections are `parts`. `channels` are those of the
    source. `voice` is the name of the voice where each of a section's has a file of its own. `refusal` says why nothing
    can be made of it.
    """

    section: Section | None
    title: str
    content_kind: str
    treatment: Treatment
    channels: int
    recording: Recording | None = None
    programme: dict | None = None
    voice: str = ""
    recordings: tuple[Recording, ...] = ()
    parts: tuple[int, ...] = ()
    refusal: str = ""

    def channels_for(self, outlet: Outlet) -> int:
        """How many channels its file for an outlet has."""
        return outlet.channels_for(min(2, self.channels), content_kind=self.content_kind)

    def encoding(self, outlet: Outlet) -> Encoding:
        """What its file for an outlet is made of."""
        return outlet.encoding_from(self.channels, content_kind=self.content_kind)

    def settled(self) -> dict:
        """What it sounds from as plain values, for `Soundings.settled_before`."""
        return {
            "title": self.title,
            "content_kind": self.content_kind,
            "treatment": self.treatment.as_dict(),
            "recording": self.recording.sha256 if self.recording else "",
            "programme": self.programme,
        }

    def slips(self) -> dict[Path, tuple[str, dict]]:
        """What its recordings are called and what their slips keep, by their paths."""
        return {recording.path: (recording.name, recording.figures) for recording in self.recordings}

    @property
    def hashes(self) -> list[str]:
        """The recordings that are heard in it, each once, in the order they are first heard."""
        if self.programme is None:
            return [self.recording.sha256] if self.recording else []
        return list(dict.fromkeys(track["sha256"] for own in self.programme["tracks"].values() for track in own))

    @cached_property
    def sound(self) -> str:
        """A hash of all that is heard before it is treated. A recording brought in anew under another key sounds
        alike.
        """
        if self.programme is None:
            return self.recording.sha256 if self.recording else ""
        names = list(self.programme["tracks"])
        pieces = [
            piece | {"span": piece["span"] | {"recording": names.index(piece["span"]["recording"])}}
            if "span" in piece
            else piece
            for piece in self.programme["pieces"]
        ]
        return digest([pieces, [_heard(own) for own in self.programme["tracks"].values()]])


def _heard(tracks: list[dict]) -> list[dict]:
    return [{name: value for name, value in track.items() if name != "name"} for track in tracks]


class Soundings:
    """What the files of a production sound from, read once."""

    def __init__(self, production: Production):
        self._production = production
        self._made = Assembly(production)
        self._of_sections: dict[int, list[Sounding]] = {}

    @cached_property
    def sections(self) -> list[Section]:
        """The whole running order."""
        return list(self._production.sections.with_pieces())

    @cached_property
    def _recordings(self) -> dict[str, Recording]:
        return {recording.sha256: recording for recording in self._production.recordings.defer("remarks")}

    def of(self, sections: Sequence[Section], outlet: Outlet) -> list[Sounding]:
        """One for each file that would be made, in order; sections without a recording have none."""
        if outlet.joined:
            return self.whole(sections)
        return [sounding for section in sections for sounding in self.of_section(section)]

    def settled(self, outlet: Outlet) -> Outlet:
        """An outlet for this production: where it wants all files alike, it is settled how."""
        if not outlet.same_channels:
            return outlet
        return outlet.settled([each.channels for each in self.of(self.sections, outlet) if not each.refusal])

    def of_section(self, section: Section) -> list[Sounding]:
        """One for a section, or for each of its voices that has a file of its own; none without a recording."""
        if section.pk not in self._of_sections:
            self._of_sections[section.pk] = self._found(section)
        return self._of_sections[section.pk]

    def _found(self, section: Section) -> list[Sounding]:
        facts: dict[str, Any] = {"section": section, "content_kind": section.content_kind, "treatment": section.wishes}
        recording = section.recording
        if not section.made_of:
            return []
        if recording is not None and not recording.ready and not section.is_cut:
            refusal = recording.refusal or Said("recording-still-being-measured-takes")
            return [Sounding(title=section.title, refusal=refusal, channels=_UNKNOWN_CHANNELS, **facts)]
        try:
            voices = self._made.voices(section)
        except MasteringError as error:
            return [Sounding(title=section.title, refusal=str(error), channels=_UNKNOWN_CHANNELS, **facts)]
        if not voices:
            return [
                Sounding(
                    title=section.title,
                    recording=recording,
                    recordings=(certain(recording),),
                    channels=self.channels_of(recording, None),
                    **facts,
                )
            ]
        return [
            Sounding(
                title=f"{section.title} ({voice.name})" if voice.name else section.title,
                recording=recording,
                programme=voice.programme,
                recordings=self.recordings_of(recording, voice.programme),
                channels=self.channels_of(recording, voice.programme),
                voice=voice.name,
                **facts,
            )
            for voice in voices
        ]

    def whole(self, sections: Sequence[Section], *, said: bool = False) -> list[Sounding]:
        """One of all these sections, one after the other; none where nothing of them sounds. What is heard by itself,
        such as a sample, is no part of it unless these very sections are `said`, or are of no other kind.
        """
        sounding = [section for section in sections if section.stretches()]
        sounding = said and sounding or [each for each in sounding if each.role not in APART] or sounding
        facts: dict[str, Any] = {
            "section": None,
            "title": self._production.title,
            "content_kind": content_of(sounding),
            "treatment": common_treatment(sounding),
            "parts": tuple(section.pk for section in sounding),
        }
        if not sounding:
            return []
        try:
            pieces = self._made.pieces(*of_kinds([(section.stretches(), section.content_kind) for section in sounding]))
            programme = self._made.voices_of(pieces, mixed=True)[0].programme
        except MasteringError as error:
            return [Sounding(refusal=str(error), channels=_UNKNOWN_CHANNELS, **facts)]
        recording = sounding[0].recording
        return [
            Sounding(
                recording=recording,
                programme=programme,
                recordings=self.recordings_of(recording, programme),
                channels=self.channels_of(recording, programme),
                **facts,
            )
        ]

    def unpaired(self, section: Section) -> Sounding:
        """What stands for a section that has no recording yet, so that its file can be named."""
        return Sounding(
            section=section,
            title=section.title,
            content_kind=section.content_kind,
            treatment=section.wishes,
            channels=_UNKNOWN_CHANNELS,
            refusal=Said("section-no-recording-yet-give"),
        )

    def unpaired_whole(self, sections: Sequence[Section]) -> Sounding:
        """What stands for one file of sections of which none has a recording yet, so that it can be named."""
        return Sounding(
            section=None,
            title=self._production.title,
            content_kind=content_of(sections),
            treatment=common_treatment(sections),
            channels=_UNKNOWN_CHANNELS,
            refusal=Said("no-section-recording-yet-give"),
        )

    def settled_before(self, values: dict) -> Sounding:
        """What `Sounding.settled` kept; with a refusal where its recording is no longer there."""
        recording, programme = self._recordings.get(values["recording"]), values["programme"]
        gone = recording is None and programme is None
        return Sounding(
            section=None,
            title=values["title"],
            content_kind=values["content_kind"],
            treatment=treatment_of(values["treatment"]),
            channels=self.channels_of(recording, programme),
            recordings=self.recordings_of(recording, programme),
            recording=recording,
            programme=programme,
            refusal=Said("recording-no-longer-there") if gone else "",
        )

    def recordings_of(self, recording: Recording | None, programme: dict | None) -> tuple[Recording, ...]:
        """The recordings that are heard in a whole recording, or in a programme, as far as they are still there."""
        if programme is None:
            return (recording,) if recording else ()
        tracks = [track["sha256"] for own in programme["tracks"].values() for track in own]
        return tuple(self._recordings[sha256] for sha256 in dict.fromkeys(tracks) if sha256 in self._recordings)

    def channels_of(self, recording: Recording | None, programme: dict | None) -> int:
        """How many channels a recording, or a programme, has."""
        parted = (
            {t["sha256"] for own in programme["tracks"].values() for t in own if t.get("fold")} if programme else ()
        )
        found = [
            1 if each.sha256 in parted else each.figures.get("channels") or _UNKNOWN_CHANNELS
            for each in self.recordings_of(recording, programme)
        ]
        return max(found, default=_UNKNOWN_CHANNELS)


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
