"""What each file of a production says of itself for an outlet, from its facts, sections and marks."""

import hashlib
from collections.abc import Sequence
from dataclasses import asdict, replace
from functools import cached_property

from mastering.audio.wav import Broadcast
from mastering.naming.patterns import Facts, facts_of
from mastering.outlets.filled_in import inscription_for
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules.artwork import FROM_MARKS
from mastering.tagging.inscription import BadTag, Chapter, Inscription
from mastering.tagging.writing import holds
from sermovox.cutting.chapters import Chapters
from sermovox.keeping import storage
from sermovox.productions.models import Production, Section, fitted_artwork
from sermovox.recordings.models import Recording
from sermovox.sources.names import Wanted, section_facts, shared_facts
from sermovox.sources.soundings import Soundings


class Inscriptions:
    """What the files of one production say now, read once."""

    def __init__(self, production: Production, soundings: Soundings | None = None):
        self.production = production
        self._soundings = soundings or Soundings(production)
        self._chapters_of: dict[tuple, list[Chapter]] = {}

    @cached_property
    def _by_key(self) -> dict[int, Section]:
        return {section.pk: section for section in self._soundings.sections}

    @cached_property
    def _marked(self) -> Chapters:
        return Chapters(self.production)

    def settled(self, file: Wanted, outlet: Outlet, *, date: str, container: str = "") -> dict:
        """What one file is to say, as plain values that `restored` reads; `date` is the day it may tell.

        Holds "refusal" where a text cannot be written.
        """
        sounding = file.sounding
        container = container or file.encoding.container
        artwork = self.production.artwork_sha256 if outlet.artwork and holds(container, "picture") else ""
        chapters = self._chapters(file, outlet) if outlet.chapters else ()
        values = {"artwork": artwork, "broadcast": asdict(self._broadcast(sounding.title, sounding.recording))}
        try:
            inscription, texts = inscription_for(
                outlet,
                self._facts(outlet, file, date),
                container=container,
                chapters=chapters,
            )
        except BadTag as error:
            return values | {"refusal": str(error)}
        return values | {
            "tags": inscription.tags,
            "texts": texts,
            "chapters": [plain_chapter(chapter) for chapter in inscription.chapters],
        }

    def _facts(self, outlet: Outlet, file: Wanted, date: str) -> Facts:
        sections = self._soundings.sections
        own = section_facts(file.sounding, file.place, sections)
        own["title"] = file.sounding.title
        shared = shared_facts(self.production, outlet, len(sections), date)
        (facts,) = facts_of([shared | own], lines=True)
        return facts

    def _chapters(self, file: Wanted, outlet: Outlet) -> Sequence[Chapter]:
        section = file.sounding.section
        if outlet.chapters == FROM_MARKS:
            return self._marked.of_marks(section) if section else ()
        return self.chapters_of_sections(file.sounding.parts)

    def chapters_of_sections(self, keys: Sequence[int] = ()) -> list[Chapter]:
        """A chapter for each section that sounds, one after the other; of these alone, where some are named."""
        named = tuple(keys)
        if named not in self._chapters_of:
            among = self._soundings.sections
            chosen = [self._by_key[key] for key in named if key in self._by_key] if named else among
            self._chapters_of[named] = self._marked.of_sections(chosen)
        return self._chapters_of[named]

    def _broadcast(self, title: str, recording: Recording | None) -> Broadcast:
        """What the description of a BWF says. When it was recorded, or came in, so that it says the same each time."""
        date, time = recording.originated_at if recording else ("", "")
        return Broadcast(
            description=f"{self.production.title}: {title}",
            originator=self.production.narrator or "Sermovox",
            date=date,
            time=time,
        )


def plain_chapter(chapter: Chapter) -> dict:
    """A chapter as plain values; its picture by its hash."""
    picture = hashlib.sha256(chapter.picture).hexdigest() if chapter.picture else ""
    return asdict(replace(chapter, picture=b"")) | {"picture": picture}


def chapters_of(values: dict) -> tuple[Chapter, ...]:
    """The chapters of what `settled` made, from the start of the source."""
    return tuple(Chapter(**row | {"picture": storage.picture(row["picture"])}) for row in values.get("chapters", ()))


def restored(values: dict, outlet: Outlet) -> tuple[Inscription, dict[str, str], Broadcast]:
    """What is to be written, what a check expects, and the description of a BWF. Raises BadTag."""
    if "refusal" in values:
        raise BadTag(values["refusal"])
    inscription = Inscription(
        tags=values["tags"],
        picture=fitted_artwork(values["artwork"], outlet.artwork) if values["artwork"] else b"",
        chapters=chapters_of(values),
        form=outlet.tag_form,
    )
    return inscription, values["texts"], Broadcast(**values["broadcast"])


def in_place(given: Sequence[Chapter], has: Sequence[Chapter], later_s: float) -> tuple[Chapter, ...]:
    """The chapters a file was given (`given`, by their places in the source) where they are in it: as they stand in it
    (`has`), or `later_s` after their places where it holds none.
    """
    if not has:
        return shifted(given, later_s)
    if [each.title for each in given] != [each.title for each in has]:
        by_title = {each.title: each for each in given}
        given = [by_title.get(each.title, each) for each in has]
    return tuple(replace(each, start_s=own.start_s, end_s=own.end_s) for own, each in zip(has, given, strict=True))


def shifted(chapters: Sequence[Chapter], later_s: float) -> tuple[Chapter, ...]:
    """Chapters by their places in the source where they are in a file in which words stand `later_s` later."""
    return tuple(
        replace(each, start_s=each.start_s + later_s * (number > 0), end_s=each.end_s + later_s)
        for number, each in enumerate(chapters)
    )


def renamed(was: Sequence[Chapter], now: Sequence[Chapter]) -> tuple[Chapter, ...]:
    """Chapters at their places, each with what is said now of that which it is the mark of."""
    by_key = {each.key: each for each in now if each.key}
    return tuple(replace(by_key.get(each.key, each), start_s=each.start_s, end_s=each.end_s) for each in was)
