"""What each file of a production says of itself for an outlet, from its facts, sections and marks."""

from collections.abc import Sequence
from functools import cached_property

from mastering.audio.wav import Broadcast
from mastering.naming.patterns import Facts, facts_of
from mastering.outlets.inscribed import inscribed
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules import FROM_MARKS
from mastering.tagging.inscription import Chapter, Inscription
from sermovox.cutting.chapters import Chapters
from sermovox.productions.models import Production, Section
from sermovox.productions.naming import shared_facts


class Inscriptions:
    """What the files of one production say, read once."""

    def __init__(self, production: Production):
        self.production = production
        self._pictures: dict[str, bytes] = {}

    @cached_property
    def sections(self) -> list[Section]:
        return list(self.production.sections.select_related("recording").defer("script", "notes"))

    @cached_property
    def _places(self) -> dict[int, int]:
        return {section.pk: place for place, section in enumerate(self.sections, 1)}

    @cached_property
    def _marked(self) -> Chapters:
        return Chapters(self.production)

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
            picture=self._picture(outlet),
            chapters=chapters,
        )

    def _picture(self, outlet: Outlet) -> bytes:
        if outlet.key not in self._pictures:
            self._pictures[outlet.key] = self.production.picture_for(outlet.artwork)
        return self._pictures[outlet.key]

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

    def _chapters(self, outlet: Outlet, section: Section | None) -> Sequence[Chapter]:
        if outlet.chapters == FROM_MARKS:
            return self._marked.of_marks(section) if section else ()
        return self.chapters_of_sections()

    def chapters_of_sections(self) -> list[Chapter]:
        """A chapter for each section that sounds, one after the other."""
        return self._marked.of_sections(self.sections)
