"""The files that a production asks for: what each is called and made of, for one outlet."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import cached_property

from django.utils import timezone
from django.utils.text import slugify

from mastering.audio.encodings import Encoding
from mastering.naming.checks import NameProblem, check_names, fitted_ending, numbered, with_ending
from mastering.naming.patterns import Pattern, facts_of, plain, read_pattern
from mastering.outlets.outlet import Outlet
from sermovox.productions.models import Naming, Production, Section
from sermovox.sources.soundings import Sounding, Soundings

EXACT = "{exact}"
SOME = "some-sections"
"""What the name of a joined file ends in that was asked, in so many words, to hold a chosen few sections alone."""


def naming_for(production: Production, outlet: Outlet) -> Naming:
    """The naming that was chosen for this outlet, or an unsaved one that says nothing."""
    kept = production.namings.filter(outlet_key=outlet.key).first()
    return kept or Naming(production=production, outlet_key=outlet.key)


def pattern_for(production: Production, outlet: Outlet, sections: Sequence[Section]) -> str:
    """The pattern that was chosen; else the dictated names, where every section has one; else the outlet's own."""
    naming = naming_for(production, outlet)
    chosen = naming.pattern
    if outlet.joined and chosen == EXACT and not naming.whole_name:
        return outlet.names
    if chosen:
        return chosen
    dictated = bool(sections) and not outlet.joined and all(section.exact_name for section in sections)
    return EXACT if dictated else outlet.names


def today() -> str:
    """The day that names and tags of files begun now may tell."""
    return timezone.localdate().isoformat()


def shared_facts(production: Production, outlet: Outlet, total: int, date: str) -> dict[str, str | int | None]:
    """The fields of patterns that are the same for all files of a run."""
    return production.name_facts() | {"outlet": outlet.title, "date": date, "total": total}


@dataclass(frozen=True, kw_only=True)
class Wanted:
    """One file that is wanted: what it sounds from, its place in the running order, its name and what it is made of."""

    sounding: Sounding
    place: int
    name: str
    encoding: Encoding

    @property
    def key(self) -> tuple[int | None, str]:
        """What tells it from the others of its production and outlet: its section, and the voice of it."""
        section = self.sounding.section
        return (section.pk if section else None, self.sounding.voice)


class WantedFiles:
    """The files of a whole production for one outlet, as it asks for them now.

    Parameters
    ----------
    some
        The sections that a joined file holds, where it is to hold these alone; it has another name then.
    pattern
        A pattern to try instead of the one that was chosen.
    date
        The day that names may tell; today's where none is given.
    """

    def __init__(
        self,
        production: Production,
        outlet: Outlet,
        *,
        soundings: Soundings | None = None,
        some: Collection[int] = (),
        pattern: Pattern | None = None,
        date: str | None = None,
    ):
        self.production = production
        self.soundings = soundings or Soundings(production)
        self.outlet = self.soundings.settled(outlet)
        self._some, self._tried = some, pattern
        self._date = today() if date is None else date

    @cached_property
    def _named(self) -> list[tuple[Sounding, int, str]]:
        """Each sounding with its place and the name that the pattern gives its section."""
        sections = self.soundings.sections
        if self.outlet.joined:
            chosen = [section for section in sections if not self._some or section.pk in self._some]
            wholes = self.soundings.whole(chosen, said=bool(self._some))
            if chosen and not wholes:
                wholes = [self.soundings.unpaired_whole(chosen)]
            found = [(sounding, 1) for sounding in wholes]
        else:
            found = [
                (sounding, place)
                for place, section in enumerate(sections, 1)
                for sounding in self.soundings.of_section(section) or [self.soundings.unpaired(section)]
            ]
        names = self._names(found)
        return [(*each, name) for each, name in zip(found, names, strict=True)]

    def _names(self, found: list[tuple[Sounding, int]]) -> list[str]:
        sections = self.soundings.sections
        shared = shared_facts(self.production, self.outlet, len(sections), self._date)
        whole = {"exact": naming_for(self.production, self.outlet).whole_name} if self.outlet.joined else {}
        facts = facts_of([shared | section_facts(sounding, place, sections) | whole for sounding, place in found])
        return [self._pattern.name(each) for each in facts]

    @cached_property
    def files(self) -> list[Wanted]:
        """All of them, those of sections without a recording too."""
        made: list[Wanted] = []
        exact = self._pattern.text == EXACT
        for sounding, place, name in self._named:
            encoding = sounding.encoding(self.outlet)
            # The name a client dictates stands for the line, not for one outlet's format.
            name = fitted_ending(name, encoding.extension) if exact else with_ending(name, encoding.extension)
            if sounding.voice:
                taken = {each.name.casefold() for each in made if each.sounding.section == sounding.section}
                # Two voices may be called alike.
                name = numbered(_with_voice(name, sounding.voice), taken)
            if self._some and self.outlet.joined:
                name = _with_words(name, SOME)
            made.append(Wanted(sounding=sounding, place=place, name=name, encoding=encoding))
        return made

    @cached_property
    def _pattern(self) -> Pattern:
        return self._tried or read_pattern(pattern_for(self.production, self.outlet, self.soundings.sections))

    @cached_property
    def problems(self) -> list[tuple[Wanted, NameProblem]]:
        """What would go wrong with their names."""
        names = [file.name for file in self.files]
        told = check_names(names, extensions=[file.encoding.extension for file in self.files])
        return [(self.files[problem.index], problem) for problem in told]

    def chosen(self, keys: Collection[int]) -> list[Wanted]:
        """Those of some sections; the one of all sections is always among them."""
        return [file for file in self.files if file.sounding.section is None or file.sounding.section.pk in keys]


def section_facts(sounding: Sounding, place: int, sections: Sequence[Section]) -> dict[str, str | int | None]:
    """What patterns may use of the section of one file, among those of its running order."""
    section = sounding.section
    if section is None:
        return {"place": place, "count": place, "title": sounding.title}
    counted = any(each.number is not None for each in sections)
    return {
        "place": place,
        "number": section.number,
        "count": section.number if counted else place,
        "role": section.role,
        "title": section.title,
        "part": section.part,
        "exact": section.exact_name,
        "notes": section.notes,
        "script": section.script,
        "source": section.recording.name.rpartition(".")[0] if section.recording else "",
    }


def _with_voice(name: str, voice: str) -> str:
    """A file's name with that of a voice: "03-tides.mp3" and "guest.wav" make "03-tides-guest.mp3"."""
    return _with_words(name, slugify(plain(voice.rpartition(".")[0] or voice))[:40])


def _with_words(name: str, words: str) -> str:
    stem, dot, ending = name.rpartition(".")
    return f"{stem}-{words}{dot}{ending}"
