"""How the files of a production are called, for one outlet."""

from collections.abc import Sequence

from django.utils import timezone

from mastering.naming.checks import NameProblem, check_names, with_ending
from mastering.naming.patterns import Pattern, facts_of, read_pattern
from mastering.outlets.outlet import Outlet
from sermovox.productions.models import Naming, Production, Section

EXACT = "{exact}"


def naming_for(production: Production, outlet: Outlet) -> Naming:
    """The naming that was chosen for this outlet, or an unsaved one that says nothing."""
    kept = production.namings.filter(outlet_key=outlet.key).first()
    return kept or Naming(production=production, outlet_key=outlet.key)


def pattern_for(production: Production, outlet: Outlet, sections: Sequence[Section]) -> str:
    """The pattern that was chosen; else the dictated names, where every section has one; else the outlet's own."""
    chosen = naming_for(production, outlet).pattern
    if chosen:
        return chosen
    dictated = bool(sections) and all(section.exact_name for section in sections)
    return EXACT if dictated else outlet.names


def shared_facts(production: Production, outlet: Outlet, total: int) -> dict[str, str | int | None]:
    """The fields of patterns that are the same for all files of a run."""
    return production.name_facts() | {
        "outlet": outlet.title,
        "date": timezone.localdate().isoformat(),
        "total": total,
    }


def names_of(production: Production, outlet: Outlet, sections: Sequence[Section], pattern: Pattern) -> list[str]:
    """The file name of each section of a whole running order, in its order."""
    shared = shared_facts(production, outlet, len(sections))
    facts = facts_of(
        [
            shared
            | {
                "place": place,
                "number": section.number,
                "role": section.role,
                "title": section.title,
                "part": section.part,
                "exact": section.exact_name,
                "notes": section.notes,
                "source": section.recording.name.rpartition(".")[0] if section.recording else "",
            }
            for place, section in enumerate(sections, 1)
        ]
    )
    endings = extensions(outlet, sections)
    return [with_ending(pattern.name(f), ending) for f, ending in zip(facts, endings, strict=True)]


def extensions(outlet: Outlet, sections: Sequence[Section]) -> list[str]:
    """The ending of each section's file."""
    by_kind = {
        kind: outlet.encoding(channels=1, content_kind=kind).extension for kind in {s.content_kind for s in sections}
    }
    return [by_kind[section.content_kind] for section in sections]


def problems_of(names: Sequence[str], outlet: Outlet, sections: Sequence[Section]) -> list[NameProblem]:
    """What would go wrong with these names."""
    return check_names(names, extensions=extensions(outlet, sections))


def settled_names(production: Production, outlet: Outlet) -> tuple[list[Section], list[str], list[NameProblem]]:
    """Sections of the running order, the names their files will have, and what is wrong with them."""
    sections = list(production.sections.select_related("recording").defer("script", "recording__figures"))
    pattern = read_pattern(pattern_for(production, outlet, sections))
    names = names_of(production, outlet, sections, pattern)
    return sections, names, problems_of(names, outlet, sections)
