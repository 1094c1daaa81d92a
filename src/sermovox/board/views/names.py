"""How files are called for an outlet: the pattern with its preview, names a client dictates, and their checks."""

from django.contrib import messages
from django.db import transaction
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from mastering.errors import MasteringError
from mastering.naming.pairing import WAYS
from mastering.naming.patterns import FUNCTIONS
from mastering.outlets.outlet import Outlet
from mastering.said import Said
from sermovox.board.forms import DictatedForm, NamingForm
from sermovox.board.naming import (
    example_names,
    paired_names,
    previewed_names,
    revision_of_naming,
    sections_named,
    shown_parts,
    written_pattern,
)
from sermovox.outlets.models import outlets_of
from sermovox.productions import order
from sermovox.productions.models import Naming, Production
from sermovox.sources.names import EXACT, naming_for, pattern_for
from sermovox.ui.forms import first_error
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen


def names(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    outlet = _outlet(request, production)
    sections = sections_named(production)
    text = pattern_for(production, outlet, sections)
    naming = naming_for(production, outlet)
    context = {
        "seen": revision_of_naming(naming),
        "production": production,
        "outlet": outlet,
        "outlets": production.outlets.values(),
        "functions": FUNCTIONS,
        "naming": naming,
        "existing": Naming.Existing.choices,
        "dictated": sum(bool(section.exact_name) for section in sections),
        "ways": WAYS,
    }
    return render(request, "board/names.html", context | shown_parts(text) | previewed_names(production, outlet, text))


@require_POST
def preview(request, pk: int):
    """The names a pattern gives, while it is being written."""
    production = owned(request, Production.objects, pk=pk)
    outlet = _outlet(request, production)
    text = written_pattern(request.POST)
    context = shown_parts(text, request.POST.get("open", "")) | {"by": request.POST.get("by", "")}
    return render(request, "board/_names_preview.html", context | previewed_names(production, outlet, text))


def examples(request, pk: int):
    """Patterns to start from, with what they would call a file of this production."""
    production = owned(request, Production.objects, pk=pk)
    found = example_names(production, _outlet(request, production))
    return render(request, "board/_names_examples.html", {"examples": found})


@require_POST
def save(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    outlet = _outlet(request, production)
    with transaction.atomic():
        naming = naming_for(production, outlet)
        seen = is_as_seen(request, revision_of_naming(naming))
        said = request.POST.copy()
        said["pattern"] = written_pattern(request.POST)
        form = NamingForm(said, instance=naming, outlet=outlet)
        if not form.is_valid() or not seen:
            messages.error(request, first_error(form) if form.errors else ELSEWHERE)
            return redirect(_address(production, outlet))
        form.save()
    messages.success(request, Said("files-will-named-so", title=outlet.title))
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
            messages.error(request, found["problem"] or Said("there-no-name-set-paste"))
        elif not is_as_seen(request, found["seen"]):
            messages.error(request, ELSEWHERE)
        elif found["whole"]:
            naming.pattern, naming.whole_name = EXACT, found["whole"][:255]
            naming.save()
            messages.success(request, Said("one-file-called-so", title=outlet.title))
        else:
            order.dictate(production, request.user, {s.pk: name for s, name in found["pairs"]})
            if not outlet.joined:
                naming.pattern = EXACT
                naming.save()
            told = Said("names-set-undo-running-order", count=len(found["pairs"]))
            if outlet.joined:
                told += Said("gets-one-file-all-sections", title=outlet.title)
            messages.success(request, told)
    return redirect(_address(production, outlet))


def _paired(request, production: Production) -> dict:
    """Which dictated name goes to which section, as it was written or comes in a file."""
    outlet = _outlet(request, production)
    form = DictatedForm(request.POST, request.FILES)
    try:
        return paired_names(production, outlet, form.text(), form.way)
    except MasteringError as error:
        return {"pairs": [], "whole": "", "seen": "", "problem": str(error)}


def _address(production: Production, outlet: Outlet) -> str:
    return reverse("productions:names", args=[production.pk], query={"outlet": outlet.key})


def _outlet(request, production: Production) -> Outlet:
    asked = request.POST.get("outlet") or request.GET.get("outlet")
    return outlets_of(production.owner).get(asked) or production.outlet
