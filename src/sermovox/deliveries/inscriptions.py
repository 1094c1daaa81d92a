"""What each file of a production says of itself for an outlet, from its facts, sections and marks."""

from collections.abc import Sequence
from functools import cached_property

from mastering.audio.wav import Broadcast
from mastering.errors import MasteringError
from mastering.naming.patterns import Facts, facts_of
from mastering.outlets.inscribed import inscribed
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules import FROM_MARKS
from mastering.tagging.inscription import Chapter, Inscription
from sermovox.cutting.programmes import Assembly
from sermovox.productions.models import Production, Section
from sermovox.productions.naming import shared_facts

_UNTITLED = "Untitled"


class Inscriptions:
    """What the files of one production say, read once."""

    def __init__(self, production: Production):
        self.production = production

    @cached_property
    def sections(self) -> list[Section]:
        return list(self.production.sections.select_related("recording").defer("script", "notes"))

    @cached_property
    def _places(self) -> dict[int, int]:
        return {section.pk: place for place, section in enumerate(self.sections, 1)}

    @cached_property
    def _artwork(self) -> bytes:
        return self.production.artwork_bytes()

    def of(
        self, outlet: Outlet, section: Section | None, *, title: str, container: str
    ) -> tuple[Inscription, dict[str, str]]:
        """What one file is to say, and what its check expects. None stands for the file of all sections.

        Raises BadTag.
        """
        chapters = self._chapters(outlet, section) if outlet.chapters else ()
        return inscribed(
            outlet,
            self._facts(outlet, section, title),
            container=container,
            artwork=self._artwork if outlet.artwork else b"",
            chapters=chapters,
        )

    def broadcast(self, title: str) -> Broadcast:
        """What the description of a BWF says."""
        production = self.production
        return Broadcast(description=f"{production.title}: {title}", originator=production.narrator or "Sermovox")

    def _facts(self, outlet: Outlet, section: Section | None, title: str) -> Facts:
        own = {"place": 1, "title": title}
        if section is not None:
            own |= {
                "place": self._places.get(section.pk, 1),
                "number": section.number,
                "role": section.role,
                "part": section.part,
                "notes": section.notes,
                "script": section.script,
                "exact": section.exact_name,
            }
        (facts,) = facts_of([shared_facts(self.production, outlet, len(self.sections)) | own], lines=True)
        return facts

    def _chapters(self, outlet: Outlet, section: Section | None) -> list[Chapter]:
        if outlet.chapters == FROM_MARKS:
            return self.marks_of(section) if section else []
        return self.chapters_of_sections()

    def chapters_of_sections(self) -> list[Chapter]:
        """A chapter for each section that sounds, one after the other."""
        made, chapters, at_s = Assembly(self.production), [], 0.0
        for section in self.sections:
            if not (stretches := section.stretches()):
                continue
            try:
                end_s = at_s + made.seconds(stretches)
            except MasteringError:
                continue
            chapters.append(
                Chapter(start_s=at_s, end_s=end_s, title=section.title.strip() or _UNTITLED, link=section.link)
            )
            at_s = end_s
        return chapters

    def marks_of(self, section: Section) -> list[Chapter]:
        """A chapter for each named mark on the pages a section is cut from, where it sounds in it."""
        stretches = section.stretches()
        if not stretches:
            return []
        made = Assembly(self.production)
        try:
            pieces, whole_s = made.pieces(stretches), made.seconds(stretches)
        except MasteringError:
            return []
        recordings = {piece.span.recording for piece in pieces}
        points = {
            str(page.recording_id): [mark for mark in page.mark_list if mark.kind == "point" and mark.name.strip()]
            for page in self.production.pages.select_related("recording")
        }
        own = self.production.recordings.filter(pk__in=[int(name) for name in recordings])
        rates_hz = {str(recording.pk): recording.figures["sample_rate_hz"] for recording in own}
        found, at_s = [], 0.0
        for piece in pieces:
            span, rate_hz = piece.span, rates_hz[piece.span.recording]
            at_s -= piece.overlap_samples / rate_hz
            if piece.tone_samples is None:
                found += [
                    (at_s + (point.start_sample - span.start_sample) / rate_hz, point.name)
                    for point in points.get(span.recording, [])
                    if span.start_sample <= point.start_sample < span.end_sample
                ]
            at_s += piece.samples / rate_hz
        return _from_starts(sorted(found), whole_s, section)


def _from_starts(found: Sequence[tuple[float, str]], whole_s: float, section: Section) -> list[Chapter]:
    """Chapters that follow on each other; what lies before the first mark is called as the section is."""
    if not found:
        return []
    if found[0][0] > 0.5:
        found = [(0.0, section.title.strip() or _UNTITLED), *found]
    ends = [start_s for start_s, _ in found[1:]] + [whole_s]
    return [
        Chapter(start_s=0.0 if at == 0 else start_s, end_s=end_s, title=name, link=section.link if at == 0 else "")
        for at, ((start_s, name), end_s) in enumerate(zip(found, ends, strict=True))
        if end_s > start_s
    ]
