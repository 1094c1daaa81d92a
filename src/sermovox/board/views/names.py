"""How files are called for an outlet: the pattern with its preview, names a client dictates, and their checks."""

from django.contrib import messages
from django.db import transaction
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from mastering.editing.scripts import Layout, rows_of, table_layout
from mastering.editing.tables import separator_of
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.naming.checks import check_names
from mastering.naming.pairing import WAYS, Target, pair
from mastering.naming.patterns import FIELDS, FUNCTIONS, BadPattern, read_pattern
from mastering.outlets.outlet import Outlet
from sermovox.outlets.models import outlets_of
from sermovox.productions import order
from sermovox.productions.models import Naming, Production, Section
from sermovox.sources.names import EXACT, WantedFiles, naming_for, pattern_for
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen, revision_of

_SHOWN = 500


def names(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    outlet = _outlet(request, production)
    sections = _sections(production)
    text = pattern_for(production, outlet, sections)
    naming = naming_for(production, outlet)
    context = {
        "seen": _revision(naming),
        "production": production,
        "outlet": outlet,
        "outlets": production.outlets.values(),
        "fields": FIELDS,
        "functions": FUNCTIONS,
        "naming": naming,
        "existing": Naming.Existing.choices,
        "dictated": sum(bool(section.exact_name) for section in sections),
        "ways": WAYS,
    }
    return render(request, "board/names.html", context | _previewed(production, outlet, text))


@require_POST
def preview(request, pk: int):
    """The names a pattern gives, while it is being written."""
    production = owned(request, Production.objects, pk=pk)
    outlet = _outlet(request, production)
    found = _previewed(production, outlet, request.POST.get("pattern", ""))
    return render(request, "board/_names_preview.html", found)


@require_POST
def save(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    outlet = _outlet(request, production)
    text = request.POST.get("pattern", "").strip()
    try:
        read_pattern(text)
    except BadPattern as error:
        messages.error(request, f"{error} The pattern was not saved.")
        return redirect(_address(production, outlet))
    existing = request.POST.get("existing", "")
    with transaction.atomic():
        naming = naming_for(production, outlet)
        if not is_as_seen(request, _revision(naming)):
            messages.error(request, ELSEWHERE)
            return redirect(_address(production, outlet))
        naming.pattern = "" if text == outlet.names else text[:500]
        naming.existing = existing if existing in Naming.Existing.values else ""
        naming.save()
    messages.success(request, f"Files for {outlet.title} will be named so.")
    return redirect(production)


@require_POST
def exact_preview(request, pk: int):
    """Which dictated name goes to which section."""
    production = owned(request, Production.objects, pk=pk)
    return render(request, "board/_exact_preview.html", _paired(request, production))


@require_POST
def exact_apply(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    outlet = _outlet(request, production)
    with transaction.atomic():
        found, naming = _paired(request, production), naming_for(production, outlet)
        if not (found["pairs"] or found["whole"]):
            messages.error(request, found["problem"] or "There is no name to set. Paste the client’s names first.")
        elif not is_as_seen(request, found["seen"]):
            messages.error(request, ELSEWHERE)
        elif found["whole"]:
            naming.pattern, naming.whole_name = EXACT, found["whole"][:255]
            naming.save()
            messages.success(request, f"The one file for {outlet.title} is called so.")
        else:
            order.dictate(production, request.user, {s.pk: name for s, name in found["pairs"]})
            if not outlet.joined:
                naming.pattern = EXACT
                naming.save()
            told = f"{len(found['pairs'])} names are set. Undo on the running order takes them back."
            if outlet.joined:
                told += f" {outlet.title} gets one file of all sections; dictate one name alone for that."
            messages.success(request, told)
    return redirect(_address(production, outlet))


def _previewed(production: Production, outlet: Outlet, text: str) -> dict:
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


def _revision(naming: Naming) -> str:
    return revision_of(naming.pattern, naming.existing, naming.whole_name)


def _paired(request, production: Production) -> dict:
    """Which dictated name goes to which section, or to the one file of all (`whole`) where a name comes alone."""
    outlet, sections = _outlet(request, production), _sections(production)
    places = {section.pk: place for place, section in enumerate(sections, 1)}
    told = [(section.pk, section.number, section.title, section.exact_name) for section in sections]
    seen = revision_of(told, _revision(naming_for(production, outlet)))
    context = {"pairs": [], "left_names": [], "left_sections": [], "problem": "", "problems": []}
    context |= {"whole": "", "seen": seen}
    try:
        text = request.POST.get("names", "")
        if file := request.FILES.get("file"):
            text = decoded(file.read(1 << 24))[0]
        listed, keys = _dictated(text)
    except MasteringError as error:
        return context | {"problem": str(error)}
    if outlet.joined and len(listed) == 1:
        told = [f"{listed[0]}: {problem.words}" for problem in check_names(listed) if problem.grave]
        return context | {"whole": listed[0], "problems": told, "outlet": outlet}
    way = request.POST.get("way", "order")
    targets = [Target(places[s.pk], s.number, s.title, s.role, s.exact_name) for s in sections]
    if keys:
        found = _by_key(keys, sections, places)
    elif way == "order":
        # Dictated in the order of the book, not of the alphabet.
        found = {at: at for at in range(min(len(listed), len(sections)))}
    else:
        found = pair(listed, targets, way if way in WAYS else "number")
    used = set(found.values())
    pairs = [(section, listed[found[at]]) for at, section in enumerate(sections) if at in found]
    told = check_names([name for _, name in pairs])
    return context | {
        "keyed": bool(keys),
        "pairs": pairs,
        "shown": pairs[:_SHOWN],
        "more": max(0, len(pairs) - _SHOWN),
        "left_names": [name for at, name in enumerate(listed) if at not in used],
        "left_sections": [section for at, section in enumerate(sections) if at not in found],
        "problems": [f"{pairs[p.index][1]}: {p.words}" for p in told if p.grave][:8],
    }


def _dictated(text: str) -> tuple[list[str], list[dict[str, str]]]:
    """The names in a list or a table, and for a table what it says of each section (number, title)."""
    separator = separator_of(text)
    if separator is None:
        return [line.strip() for line in text.split("\n") if line.strip()], []
    layout: Layout = table_layout(text, separator)
    if "name" not in layout.columns:
        raise MasteringError("This table has no column of file names. Head one “name”, and one “number” or “title”.")
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


def _address(production: Production, outlet: Outlet) -> str:
    return reverse("productions:names", args=[production.pk], query={"outlet": outlet.key})


def _sections(production: Production) -> list[Section]:
    return list(production.sections.select_related("recording").defer("script", "recording__figures"))


def _outlet(request, production: Production) -> Outlet:
    asked = request.POST.get("outlet") or request.GET.get("outlet")
    return outlets_of(production.owner).get(asked) or production.outlet
