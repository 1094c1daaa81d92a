"""Names as a pattern gives them and as a client dictates them, with what is wrong with them."""

from collections.abc import Sequence

from django.http import QueryDict

from mastering.editing.scripts import Layout, rows_of, table_layout
from mastering.editing.tables import separator_of
from mastering.errors import MasteringError
from mastering.naming.checks import check_names
from mastering.naming.pairing import WAYS, Target, pair
from mastering.naming.parts import EXAMPLES, LETTERS, Part, parts_of, text_of
from mastering.naming.patterns import FIELDS, NUMBERS, BadPattern, read_pattern
from mastering.outlets.outlet import Outlet
from mastering.said import Said
from sermovox.productions.models import Naming, Production, Section
from sermovox.sources.names import WantedFiles, naming_for
from sermovox.sources.soundings import Soundings
from sermovox.ui.revisions import revision_of

IN_ORDER = "order"
"""Dictated in the order of the book, not of the alphabet."""
_SHOWN = 500
_AS_IT_IS = "as it is"
_TEXT = "text"
_WRITTEN_OF_PARTS = ("field", "before", "letters", "most")
_DIGITS = ("2", "3", "4", "5")
_SIGNS = ("-", "_", ".")
_EXAMPLE_AT = 2
"""The third one: the first is often no chapter."""


def written_pattern(form: QueryDict) -> str:
    """The pattern a form says: written, or put together of its parts in their order. Raises BadPattern."""
    if form.get("by") != "parts":
        return form.get("pattern", "")
    parts = []
    for number in form.getlist("part"):
        own = {name: form.get(f"part-{number}-{name}", "") for name in _WRITTEN_OF_PARTS}
        chosen = {name: form.get(f"part-{number}-{name}", _AS_IT_IS) for name in ("digits", "join")}
        digits, join = (None if value == _AS_IT_IS else value for value in chosen.values())
        plain, optional = (f"part-{number}-{name}" in form for name in ("plain", "optional"))
        parts.append(Part(**own, digits=digits, join=join, plain=plain, optional=optional))
    if added := form.get("add"):
        parts.append(Part(field="" if added == _TEXT else added, before=_sign_between(parts)))
    return text_of(parts)


def _sign_between(parts: Sequence[Part]) -> str:
    """The sign that stands between those there are already."""
    return next((part.before for part in reversed(parts) if part.before), "-") if parts else ""


def shown_parts(text: str, opened: str = "") -> dict:
    """A pattern as the row of its parts; none where it says more, or cannot be read."""
    try:
        parts = parts_of(text.strip())
    except BadPattern:
        parts = None
    offered = {"numbers": NUMBERS, "digits": _DIGITS, "letters": LETTERS, "signs": _SIGNS, "fields": FIELDS}
    return offered | {"parts": parts, "opened": opened}


def example_names(production: Production, outlet: Outlet) -> list[tuple[str, str]]:
    """Patterns to start from, each with the name of a file it gives."""
    soundings = Soundings(production)
    found = []
    nothing = {name for name, value in production.name_facts().items() if not value}
    for text in EXAMPLES:
        pattern = read_pattern(text)
        if pattern.fields & nothing:
            continue
        files = WantedFiles(production, outlet, soundings=soundings, pattern=pattern).files
        if files:
            found.append((text, files[min(_EXAMPLE_AT, len(files) - 1)].name))
    return found


def previewed_names(production: Production, outlet: Outlet, text: str) -> dict:
    """The names a pattern gives, with what is wrong with them."""
    context = {"pattern": text, "problem": "", "rows": [], "grave": 0, "slight": 0, "more": 0}
    try:
        pattern = read_pattern(text.strip())
    except BadPattern as error:
        return context | {"problem": str(error)}
    files = WantedFiles(production, outlet, pattern=pattern)
    problems = [problem for _, problem in files.problems]
    told: dict[int, list] = {}
    for problem in problems:
        told.setdefault(problem.index, []).append(problem)
    rows = [
        {"place": file.place, "title": file.sounding.title, "name": file.name, "problems": told.get(at, [])}
        for at, file in enumerate(files.files)
    ]
    grave = {problem.index for problem in problems if problem.grave}
    return context | {
        "rows": rows[:_SHOWN],
        "more": max(0, len(rows) - _SHOWN),
        "grave": len(grave),
        "slight": len(set(told) - grave),
        "mends": sorted({problem.mend for problem in problems if problem.grave or "Pad" in problem.mend})[:4],
    }


def revision_of_naming(naming: Naming) -> str:
    """Changes whenever somebody changes how files are named."""
    return revision_of(naming.pattern, naming.existing, naming.whole_name)


def paired_names(production: Production, outlet: Outlet, text: str, way: str) -> dict:
    """Which of the names in a list or a table goes to which section, or to the one file of all (`whole`) where a name
    comes alone.
    """
    sections = sections_named(production)
    places = {section.pk: place for place, section in enumerate(sections, 1)}
    known = [(section.pk, section.number, section.title, section.exact_name) for section in sections]
    seen = revision_of(known, revision_of_naming(naming_for(production, outlet)))
    context = {"pairs": [], "left_names": [], "left_sections": [], "problem": "", "problems": []}
    context |= {"whole": "", "seen": seen}
    try:
        listed, keys = _dictated(text)
    except MasteringError as error:
        return context | {"problem": str(error)}
    if outlet.joined and len(listed) == 1:
        told = [
            Said("of-name", name=listed[0], words=problem.words) for problem in check_names(listed) if problem.grave
        ]
        return context | {"whole": listed[0], "problems": told, "outlet": outlet}
    targets = [Target(places[s.pk], s.number, s.title, s.role, s.exact_name) for s in sections]
    if keys:
        found = _by_key(keys, sections, places)
    elif way == IN_ORDER:
        # Dictated in the order of the book, not of the alphabet.
        found = {at: at for at in range(min(len(listed), len(sections)))}
    else:
        found = pair(listed, targets, way if way in WAYS else "number")
    used = set(found.values())
    pairs = [(section, listed[found[at]]) for at, section in enumerate(sections) if at in found]
    problems = check_names([name for _, name in pairs])
    return context | {
        "keyed": bool(keys),
        "pairs": pairs,
        "shown": pairs[:_SHOWN],
        "more": max(0, len(pairs) - _SHOWN),
        "left_names": [name for at, name in enumerate(listed) if at not in used],
        "left_sections": [section for at, section in enumerate(sections) if at not in found],
        "problems": [Said("of-name", name=pairs[p.index][1], words=p.words) for p in problems if p.grave][:8],
    }


def _dictated(text: str) -> tuple[list[str], list[dict[str, str]]]:
    """The names in a list or a table, and for a table what it says of each section (number, title)."""
    separator = separator_of(text)
    if separator is None:
        return [line.strip() for line in text.split("\n") if line.strip()], []
    layout: Layout = table_layout(text, separator)
    if "name" not in layout.columns:
        raise MasteringError(Said("table-no-column-file-names"))
    rows = rows_of(text, separator)[1 if layout.header else 0 :]
    cells = [dict(zip(layout.columns, row, strict=False)) for row in rows]
    cells = [cell for cell in cells if cell.get("name")]
    return [cell["name"] for cell in cells], cells


def _by_key(cells: list[dict[str, str]], sections: list[Section], places: dict[int, int]) -> dict[int, int]:
    """Section by section: its title first, then its number, then its place."""
    titles = {cell.get("title", "").casefold(): at for at, cell in enumerate(cells) if cell.get("title")}
    numbers = {cell.get("number", ""): at for at, cell in enumerate(cells) if cell.get("number")}
    numbered = any(section.number is not None for section in sections)
    found: dict[int, int] = {}
    for index, section in enumerate(sections):
        number = section.number if numbered else places[section.pk]
        at = titles.get(section.title.casefold(), numbers.get(str(number)) if number is not None else None)
        if at is not None and at not in found.values():
            found[index] = at
    return found


def sections_named(production: Production) -> list[Section]:
    """The sections that names are for."""
    return list(production.sections.defer("script"))
