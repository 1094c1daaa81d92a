"""What each file of a production says of itself for an outlet, from its facts, sections and marks."""

from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property

from mastering.audio.wav import Broadcast
from mastering.naming.patterns import Facts, facts_of
from mastering.outlets.inscribed import inscribed
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules import FROM_MARKS
from mastering.tagging.carried import read_carried
from mastering.tagging.inscription import Chapter, Inscription
from sermovox.cutting.chapters import Chapters
from sermovox.deliveries.models import FinishedFile
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
        self, file: FinishedFile, *, container: str, has: Sequence[Chapter] = ()
    ) -> tuple[Inscription, dict[str, str]]:
        """What one file is to say, and what its check expects; `has` are the chapters in it, where it is made already.

        Raises BadTag.
        """
        outlet = file.delivery.outlet
        return inscribed(
            outlet,
            self._facts(outlet, file.section, file.title),
            container=container,
            picture=self._picture(outlet),
            chapters=self._chapters(file, has) if outlet.chapters else (),
        )

    def chapters_in(self, file: FinishedFile) -> Sequence[Chapter]:
        """The chapters of a finished file, as they stand in it."""
        return self._chapters(file, read_carried(file.path).chapters)

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

    def _chapters(self, file: FinishedFile, has: Sequence[Chapter]) -> Sequence[Chapter]:
        if file.delivery.outlet.chapters == FROM_MARKS:
            given = self._marked.of_marks(file.section) if file.section else ()
        else:
            given = self.chapters_of_sections(file.section_keys)
        if not file.is_made:
            return given
        # Its sound is as it was: whatever was moved since, the marks stay where they are in it.
        if not has:
            later_s = file.later_s
            return tuple(
                replace(each, start_s=each.start_s + later_s * (number > 0), end_s=each.end_s + later_s)
                for number, each in enumerate(given)
            )
        by_title = {each.title: each for each in given}
        told = given if len(given) == len(has) else [by_title.get(each.title, each) for each in has]
        return tuple(replace(each, start_s=own.start_s, end_s=own.end_s) for own, each in zip(has, told, strict=True))

    def chapters_of_sections(self, keys: Sequence[int] = ()) -> list[Chapter]:
        """A chapter for each section that sounds, one after the other; of these alone, where some are named."""
        return self._marked.of_sections(each for each in self.sections if not keys or each.pk in keys)
