"""Sections put together from the pages of their recordings, for listening and for making files."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from math import log10
from pathlib import Path

from mastering.certain import certain
from mastering.editing import assembly
from mastering.editing.assembly import PAUSE, Stretch
from mastering.editing.markkinds import MOST_GAIN_DB
from mastering.editing.pieces import BadCut, Piece, Span, as_list, from_list
from mastering.errors import UnreadableRecording
from mastering.meters.speech import sounding_level
from mastering.outlets.balance import MUSIC
from mastering.rendering import Programme
from mastering.said import Said
from sermovox.cutting.models import Page, as_track, measurement_of, tracks_of
from sermovox.keeping import storage
from sermovox.productions import order
from sermovox.productions.models import Production, Section
from sermovox.recordings.models import Recording
from sermovox.ui.numerals import whole_numbers

_ON_BOTH_DB = 10 * log10(2)
"""What loudness gains where one channel becomes two: their energies are summed (ITU-R BS.1770-5)."""


@dataclass(frozen=True)
class Voice:
    """What one file is made of: pieces and tracks as plain values; `name` where each voice has a file of its own."""

    name: str
    programme: dict


class Assembly:
    """The recordings and pages of a production, read once, from which its sections are put together."""

    def __init__(self, production: Production):
        self._production = production
        self._recordings: dict[str, Recording] = {}
        self._pages: dict[str, Page] = {}
        self._core: dict[str, assembly.MarkedRecording] = {}
        self._looked_for: set[str] = set()
        self._all_pages = {str(page.recording_id): page for page in production.pages.all()}

    def pieces(self, *sections: Sequence[Stretch]) -> tuple[Piece, ...]:
        """The pieces that sound of the stretches of sections, one section after the other. Raises BadCut or
        UnreadableRecording.
        """
        stretches = [stretch for own in sections for stretch in own]
        self.know(stretch.recording for stretch in stretches)
        for stretch in stretches:
            if stretch.join == PAUSE and stretch.recording in self._recordings and stretch.recording not in self._pages:
                self._take(self._recordings[stretch.recording], Page.of(self._recordings[stretch.recording]))
        self.know(
            row["recording"]
            for name in {stretch.recording for stretch in stretches} & self._pages.keys()
            for row in self._pages[name].marks
            if "recording" in row
        )
        for stretch in stretches:
            if stretch.recording in self._recordings and stretch.recording not in self._core:
                recording = self._recordings[stretch.recording]
                raise UnreadableRecording(recording.refusal or Said("cannot-used-yet", name=recording.name))
        return assembly.assembled(sections, self._core)

    def starts_s(self, pieces: Sequence[Piece]) -> list[float]:
        """When each piece begins to sound, and when the last is over, seconds."""
        return assembly.starts_s(pieces, self._core)

    def length_s(self, section: Section) -> float | None:
        """How long a section sounds; None where it is the whole of its recording, or cannot be told."""
        try:
            return self.told_length_s(section)
        except (BadCut, UnreadableRecording):
            return None

    def told_length_s(self, section: Section) -> float | None:
        """As `length_s`. Raises BadCut or UnreadableRecording where it cannot be told."""
        if self.is_plain(section):
            return None
        if not (stretches := section.stretches()):
            recording = certain(section.recording)
            raise UnreadableRecording(recording.refusal or Said("cannot-used-yet", name=recording.name))
        return self.seconds(stretches)

    def seconds(self, stretches: Sequence[Stretch]) -> float:
        """How long stretches sound together. Raises BadCut or UnreadableRecording."""
        return self.starts_s(self.pieces(stretches))[-1]

    def is_plain(self, section: Section) -> bool:
        """Whether a section is the whole of one recording, with no mark that is heard and no voice beside it."""
        if section.is_cut or section.recording is None:
            return not section.is_cut
        page = self._all_pages.get(str(section.recording_id))
        return page is None or not page.is_marked

    def voices(self, section: Section) -> list[Voice]:
        """What the files of a section are made of: one, or as many as it has voices; none for a whole recording.

        Raises BadCut or UnreadableRecording.
        """
        if self.is_plain(section):
            return []
        pieces = self.pieces(section.stretches())
        return self.voices_of(pieces)

    def voices_of(self, pieces: Sequence[Piece], *, mixed: bool = False) -> list[Voice]:
        """As `voices`, of pieces put together already; `mixed` makes one of all voices whatever was chosen."""
        if not pieces:
            raise BadCut(Said("nothing-left-all-struck-out"))
        used = {piece.span.recording: self._recordings[piece.span.recording] for piece in pieces}
        tracks = tracks_of(used, self._pages)
        rows = as_list(pieces)
        # A pickup may come first; whose voices are delivered apart is a matter of what it is put into.
        parted = [name for name in used if self._is_separate(name) and len(tracks[name]) > 1]
        if mixed or not parted:
            return [Voice("", {"pieces": rows, "tracks": tracks})]
        return [
            Voice(
                track.get("name") or used[parted[0]].name,
                {"pieces": rows, "tracks": {name: [_only(own, at)] for name, own in tracks.items()}},
            )
            for at, track in enumerate(tracks[parted[0]])
        ]

    def _is_separate(self, name: str) -> bool:
        page = self._pages.get(name)
        return page is not None and bool(page.facts.get("separate"))

    def programme(self, stretches: Sequence[Stretch]) -> Programme:
        """Stretches as they sound together, for listening."""
        return self._heard(self.pieces(stretches))

    def as_recorded(self, stretch: Stretch) -> Programme:
        """A stretch without its marks; voices beside it sound along."""
        self.know([stretch.recording])
        return self._heard([Piece(span=Span(stretch.recording, stretch.start_sample, stretch.end_sample))])

    def level_db(self, stretch: Stretch) -> float | None:
        """How loud what sounds of a stretch is on two sides, as `sounding_level` has it, with the gains of its page;
        voices beside it count. None where it is silent. Raises BadCut or UnreadableRecording.
        """
        parts = []
        for piece in self.pieces([stretch]):
            if piece.tone_samples is not None:
                continue
            recording = self._recordings[piece.span.recording]
            page = self._pages.get(piece.span.recording)
            beside = [(recording, 0, 0.0)] + [
                (Recording.objects.get(pk=lane["recording"]), lane["offset_samples"], lane["gain_db"])
                for lane in (page.lanes if page else ())
            ]
            for each, later, gain_db in beside:
                rate_hz = each.rate_hz
                start_s, end_s = ((edge - later) / rate_hz for edge in (piece.span.start_sample, piece.span.end_sample))
                # One side sounds on both.
                both_db = _ON_BOTH_DB if each.figures["channels"] == 1 or page is not None and page.sides else 0.0
                parts.append((measurement_of(each).levels.envelope, start_s, end_s, piece.gain_db + gain_db + both_db))
        return sounding_level(parts)

    def _heard(self, pieces: Sequence[Piece]) -> Programme:
        used = {piece.span.recording: self._recordings[piece.span.recording] for piece in pieces}
        values = {"pieces": as_list(pieces), "tracks": tracks_of(used, self._pages)}
        return opened(values, stored=storage.heard)

    def know(self, names: Iterable[str]) -> None:
        """Read these recordings and their pages, by their names in programmes, unless they are known."""
        wanted = {name for name in names if name not in self._looked_for}
        if not wanted:
            return
        self._looked_for |= wanted
        keys = whole_numbers(wanted)
        for recording in Recording.with_deleted.filter(production=self._production, pk__in=keys):
            self._take(recording, self._all_pages.get(str(recording.pk)))

    def _take(self, recording: Recording, page: Page | None) -> None:
        name = str(recording.pk)
        self._recordings[name] = recording
        if not recording.ready:
            return
        if page is not None:
            page.recording = recording
            self._pages[name] = page
            self._core[name] = page.as_core()
        else:
            self._core[name] = assembly.MarkedRecording((), None, recording.rate_hz, recording.frames)


def at_one_level(section: Section, stretches: Sequence[Stretch]) -> list[Stretch]:
    """Stretches with the gains that bring each to the level of the longest that holds speech; one that is silent stays.

    Raises BadCut or UnreadableRecording.
    """
    made = Assembly(section.production)
    levels = [made.level_db(replace(stretch, gain_db=0.0)) for stretch in stretches]
    sounding = [at for at, level in enumerate(levels) if level is not None]
    if len(sounding) < 2:
        raise BadCut(Said("there-no-two-pieces-sound"))
    spoken = [at for at in sounding if (stretches[at].kind or section.content_kind) != MUSIC] or sounding
    first = max(spoken, key=lambda at: stretches[at].samples)
    wanted_db = certain(levels[first]) + stretches[first].gain_db
    return [
        stretch
        if level is None
        else replace(stretch, gain_db=round(min(max(wanted_db - level, -MOST_GAIN_DB), MOST_GAIN_DB), 1))
        for stretch, level in zip(stretches, levels, strict=True)
    ]


def opened(values: dict, stored: Callable[[str], Path] = storage.stored) -> Programme:
    """A programme from its plain values; `stored` gives the path of a file by its hash."""
    tracks = {name: [as_track(each, stored) for each in own] for name, own in values["tracks"].items()}
    return Programme(from_list(values["pieces"]), tracks)


@order.finds_lengths
def lengths_of(production: Production, sections: Iterable[Section]) -> dict[int, float | None]:
    """How long sections sound, by their keys; None where that is the length of the recording, or cannot be told."""
    made = Assembly(production)
    return {section.pk: made.length_s(section) for section in sections}


def _only(own: list[dict], at: int) -> dict:
    """The track of one voice; a recording that has fewer sounds with its first."""
    return own[at] if at < len(own) else own[0]
