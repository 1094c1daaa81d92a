"""The chapters of a production: its sections one after the other, or the points on the pages they are cut from."""

import unicodedata
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

from mastering.editing.markkinds import POINT, Mark
from mastering.errors import MasteringError
from mastering.said import Said
from mastering.tagging.inscription import Chapter, one_after_another
from sermovox.cutting.models import Page
from sermovox.cutting.programmes import Assembly
from sermovox.keeping import storage
from sermovox.productions.models import Production, Section
from sermovox.recordings.models import Recording

_UNTITLED = Said("untitled")


@dataclass(frozen=True)
class Place:
    """A point on a page, and when it is heard in a section."""

    start_s: float
    page: Page
    mark: Mark

    @property
    def key(self) -> str:
        """What tells it from others for as long as it stays where it is."""
        return f"mark {self.page.recording_id} {self.mark.start_sample}"


class Chapters:
    """The chapters of one production, whose pages are read once."""

    def __init__(self, production: Production):
        self._production = production

    @cached_property
    def _assembly(self) -> Assembly:
        return Assembly(self._production)

    @cached_property
    def _pages(self) -> dict[str, Page]:
        return {str(page.recording_id): page for page in self._production.pages.select_related("recording")}

    @cached_property
    def _rates_hz(self) -> dict[str, int]:
        ready = self._production.recordings.filter(state=Recording.State.READY)
        return {str(recording.pk): recording.rate_hz for recording in ready}

    def of_sections(self, sections: Iterable[Section]) -> list[Chapter]:
        """A chapter for each section that sounds."""
        chapters, at_s = [], 0.0
        for section in sections:
            length_s = self._seconds(section)
            if length_s:
                chapters.append(_chapter(at_s, at_s + length_s, section.title, section, key_of_section(section.pk)))
                at_s += length_s
        return chapters

    def of_marks(self, section: Section) -> tuple[Chapter, ...]:
        """A chapter for each named point that is heard in a section; what lies before the first is called as it is."""
        whole = _chapter(0.0, self._seconds(section), section.title, section, key_of_section(section.pk))
        named = [place for place in self.places(section) if place.mark.name.strip()]
        found = [_chapter(each.start_s, whole.end_s, each.mark.name, each.mark, each.key) for each in named]
        return one_after_another(found, whole)

    def places(self, section: Section) -> list[Place]:
        """The points on the pages a section is cut from, where they are heard in it; none while it cannot be told."""
        try:
            pieces = self._assembly.pieces(section.stretches())
        except MasteringError:
            return []
        found = []
        for piece, at_s in zip(pieces, self._assembly.starts_s(pieces), strict=False):
            span, rate_hz = piece.span, self._rates_hz[piece.span.recording]
            if piece.tone_samples is None and span.recording in self._pages:
                page = self._pages[span.recording]
                found += [
                    Place(at_s + (mark.start_sample - span.start_sample) / rate_hz, page, mark)
                    for mark in page.mark_list
                    if mark.kind == POINT and span.start_sample <= mark.start_sample < span.end_sample
                ]
        return sorted(found, key=lambda place: place.start_s)

    def _seconds(self, section: Section) -> float:
        """How long a section sounds; 0 while it cannot be told."""
        try:
            return self._assembly.seconds(section.stretches())
        except MasteringError:
            return 0.0


def key_of_section(key: int) -> str:
    """What the chapter mark of a section is told from others by."""
    return f"section {key}"


def _chapter(start_s: float, end_s: float, title: str, of: Section | Mark, key: str) -> Chapter:
    return Chapter(
        start_s=start_s,
        end_s=end_s,
        title=_in_one_line(title) or _UNTITLED,
        link=of.link,
        picture=storage.picture(of.picture),
        key=key,
    )


def _in_one_line(title: str) -> str:
    """Without what players choke on: marks and titles that were brought in may hold anything."""
    return " ".join("".join(" " if unicodedata.category(sign) == "Cc" else sign for sign in title).split())
