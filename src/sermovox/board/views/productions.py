"""Productions, their facts and their artwork, and single sections."""

import time
from collections import Counter

from django.contrib import messages
from django.core.paginator import Paginator
from django.db import transaction
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils import timezone
from django.utils.http import urlencode
from django.views.decorators.cache import never_cache
from django.views.decorators.http import require_POST

from mastering.said import Said, both, together
from mastering.tagging.artwork import FORMATS, ArtworkFacts, ArtworkRule, obstacles, remarks
from mastering.tagging.image_types import mime_of
from sermovox.board.facts import missing_facts
from sermovox.board.finding import ORDERS, productions_found, with_hits
from sermovox.board.forms import NewForm, ProductionForm, SectionForm
from sermovox.deliveries.crossings import CHANGED, Board
from sermovox.history.changing import changing
from sermovox.keeping import storage
from sermovox.outlets.models import outlets_of
from sermovox.productions import order
from sermovox.productions.models import Production, Section
from sermovox.ui import words
from sermovox.ui.forms import first_error
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen, revision_of

_TALLIES_WITHIN_S = 0.5
_CHANGES_A_PAGE = 200
_PRODUCTIONS_A_PAGE = 50
_THUMB = ArtworkRule(at_least_px=1, at_most_px=120, at_most_bytes=40_000, source="")


@never_cache
def production_list(request):
    """Productions, those that are due first; `?q=` looks for words in all they hold, `?shelf` shows those put away."""
    words, asked = request.GET.get("q", "")[:200], request.GET.get("order", request.session.get("order", ""))
    order = asked if asked in ORDERS else "due"
    if "order" in request.GET:
        request.session["order"] = order
    shelf = "shelf" in request.GET
    every = productions_found(request.user, words, order, shelved=shelf)
    page = Paginator(every, _PRODUCTIONS_A_PAGE).get_page(request.GET.get("page"))
    for production in page.object_list:
        production.owner = request.user
    until = time.monotonic() + _TALLIES_WITHIN_S
    # Whatever is not counted by then comes when the page is seen.
    rows = [
        {"found": each, "production": each.production, "tally": _counted(each.production, until)}
        for each in with_hits(page.object_list, request.user, words)
    ]
    context = {
        "rows": rows,
        "page": page,
        "words": words,
        "order": order,
        "orders": ORDERS,
        "shelf": shelf,
        "shelved": Production.objects.of(request.user).exclude(shelved_at=None).count(),
        "asked": urlencode({"q": words, "order": order} | ({"shelf": ""} if shelf else {})),
    }
    return render(request, "board/list.html", context)


def _counted(production: Production, until: float) -> Counter | None:
    return _tally(production) if time.monotonic() < until else None


@require_POST
def shelve(request, pk: int):
    """Put a production on the shelf, where it is out of the way, or take it back."""
    production = owned(request, Production.objects, pk=pk)
    production.shelved_at = None if production.shelved_at else timezone.now()
    production.save(update_fields=["shelved_at"])
    done = Said("shelf") if production.shelved_at else Said("back-hand")
    messages.success(request, Said("nothing-of-it-was-changed", title=production.title, done=done))
    return redirect("productions:list")


def tally(request, pk: int):
    """How the files of one production stand, for the list of productions."""
    production = owned(request, Production.objects, pk=pk)
    context = {"row": {"production": production, "tally": _tally(production)}}
    return render(request, "board/_tally.html", context)


def new(request):
    """Begin a production with its title alone; its facts are asked for where an outlet needs them."""
    form = NewForm(request.POST or None, instance=_own(request))
    if request.method == "POST" and form.is_valid():
        return redirect(form.save())
    return render(request, "board/new.html", {"form": form})


@require_POST
def begin(request):
    """Begin a production for recordings that were dropped: {"address", "uploads"}, or {"problem"}."""
    form = NewForm(request.POST, instance=_own(request))
    if not form.is_valid():
        return JsonResponse({"problem": words.said(first_error(form))}, status=400)
    production = form.save()
    uploads = reverse("recordings:uploads", args=[production.pk])
    return JsonResponse({"address": production.get_absolute_url(), "uploads": uploads})


@require_POST
def another(request, pk: int):
    """Begin another production like this one."""
    like = owned(request, Production.objects, pk=pk)
    production = like.begin_another()
    messages.success(request, Said("begun-like-facts-artwork-outlets", title=like.title))
    return redirect(production)


def _own(request) -> Production:
    return Production(owner=request.user, narrator=request.user.get_full_name())


def artwork(request, pk: int):
    """The picture as it came, or, with `?for=`, as an outlet gets it; with `?small`, to stand beside a title."""
    production = owned(request, Production.objects, pk=pk)
    if not production.artwork_sha256:
        raise Http404
    outlet = outlets_of(request.user).get(request.GET.get("for", ""))
    small = "small" in request.GET and production.picture_for(_THUMB)
    if small:
        picture = small
    elif outlet is None or outlet.artwork is None:
        picture = storage.picture(production.artwork_sha256)
    else:
        picture = production.picture_for(outlet.artwork)
    if not picture:
        raise Http404
    return HttpResponse(picture, content_type=mime_of(picture))


def history(request, pk: int):
    """Every change of the running order and its pages: what, who and when, newest first."""
    production = owned(request, Production.objects, pk=pk)
    changes = production.changes.select_related("made_by").defer("before", "after").order_by("-pk")
    shown = Paginator(changes, _CHANGES_A_PAGE).get_page(request.GET.get("page"))
    return render(request, "board/history.html", {"production": production, "page": shown})


@require_POST
def artwork_remove(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    production.artwork_sha256, production.artwork = "", {}
    production.save(update_fields=["artwork_sha256", "artwork"])
    messages.success(request, Said("artwork-taken-away"))
    return redirect("productions:edit", pk=pk)


def section(request, pk: int):
    sections = Section.objects.select_related("production").with_pieces()
    found = owned(request, sections, pk=pk)
    form = SectionForm(instance=found)
    if request.method == "POST":
        with transaction.atomic():
            form = SectionForm(request.POST, instance=owned(request, sections, pk=pk))
            saved = form.is_valid()
            if saved:
                with changing(found.production, request.user, Said("change", title=found.title)):
                    form.save()
        if saved:
            messages.success(request, Said("saved", title=form.instance.title, kept_elsewhere=_kept_elsewhere(form)))
            return redirect(found.production)
    files = found.files.select_related("delivery").order_by("-pk")[:12]
    context = {"section": found, "form": form, "files": files, "recording": found.recording}
    return render(request, "board/section.html", context)


def _kept_elsewhere(form) -> str:
    """What of a saved form was left as another window had set it meanwhile."""
    if not form.changed_elsewhere:
        return ""
    return Said("what-changed-another-window-meanwhile", changed_elsewhere=together(form.changed_elsewhere, ", "))


@require_POST
def section_delete(request, pk: int):
    found = owned(request, Section.objects, pk=pk)
    order.remove(found.production, request.user, found)
    messages.success(request, Said("out-running-order-recording-kept", title=found.title))
    return redirect(found.production)


def outlets(request, pk: int):
    """Which outlets a production is for: those whose columns its running order has."""
    production = owned(request, Production.objects, pk=pk)
    known = outlets_of(request.user)
    seen = revision_of(production.outlet_keys)
    if request.method == "POST" and not is_as_seen(request, seen):
        messages.error(request, ELSEWHERE)
    elif request.method == "POST":
        chosen = [key for key in request.POST.getlist("outlet") if key in known]
        if chosen:
            production.outlet_keys = chosen
            production.save(update_fields=["outlet_keys"])
            return redirect(production)
        messages.error(request, Said("choose-least-one-outlet"))
    context = {"production": production, "outlets": known.values(), "chosen": production.outlets, "seen": seen}
    return render(request, "board/outlets.html", context)


def edit(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    form = ProductionForm(instance=production)
    if request.method == "POST":
        with transaction.atomic():
            production = owned(request, Production.objects, pk=pk)
            form = ProductionForm(request.POST, request.FILES, instance=production)
            saved = form.save() if form.is_valid() else None
        if saved:
            messages.success(request, Said("facts-saved", kept_elsewhere=_kept_elsewhere(form)))
            return redirect(saved)
    context = {"form": form, "production": production, "fits": [], "said_of_artwork": ()}
    context["missing"] = missing_facts(production, production.outlets.values())
    if production.artwork_sha256:
        facts = ArtworkFacts(**production.artwork)
        context["said_of_artwork"] = remarks(facts)
        context["fits"] = [
            {"outlet": outlet, "obstacle": obstacles(facts, rule), "side_px": min(rule.at_most_px, facts.width_px)}
            for outlet in production.outlets.values()
            if (rule := outlet.artwork)
        ]
    context["artwork_kinds"] = both(FORMATS)
    return render(request, "board/form.html", context)


def _tally(production: Production) -> Counter:
    """How many crossings of sections and outlets pass, fail and have changed since."""
    outlets = outlets_of(production.owner)
    used = production.deliveries.order_by().values_list("outlet_key", flat=True).distinct()
    states = Board(production, [outlets[key] for key in used if key in outlets]).tally
    return Counter(
        passes=states["passes"] + states["passes with a remark"],
        fails=states["fails"] + states["cannot be made"],
        changed=states[CHANGED],
    )
