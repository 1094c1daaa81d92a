"""Proof sheets, listening through, pickups."""

from pathlib import Path
from urllib.parse import urlencode

from django.contrib import messages
from django.core.paginator import Paginator
from django.db import transaction
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.utils.http import content_disposition_header
from django.views.decorators.cache import never_cache
from django.views.decorators.http import require_POST

from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.cutting.models import Page
from sermovox.cutting.sectioning import sections_on
from sermovox.cutting.texts import state_of
from sermovox.history.changing import last_change
from sermovox.productions.models import Production, Section
from sermovox.proofing import edits
from sermovox.proofing import printed as paper
from sermovox.proofing.listening import heard_sentences
from sermovox.proofing.models import Shared
from sermovox.proofing.pickups import give_sentences, pickups_of, placed, put_in
from sermovox.proofing.sheet import WANTED, Sheet
from sermovox.recordings.models import Recording
from sermovox.ui.numerals import whole_number
from sermovox.ui.owned import owned
from sermovox.ui.words import said

_RECORDINGS = Recording.objects.select_related("production")
_ROWS_A_PAGE = 50
_TYPES = {"csv": "text/csv; charset=utf-8", "pdf": "application/pdf"}


@never_cache
def sheet(request, pk: int):
    """What was read against the text, with what a listener noted; `section` shows that alone, `show=all` the settled
    as well.
    """
    recording = owned(request, _RECORDINGS, pk=pk)
    try:
        context = _shown(request, Page.of(recording))
    except MasteringError as error:
        context = {"recording": recording, "production": recording.production, "wrong": str(error)}
    name = "_rows.html" if request.htmx else "sheet.html"
    return render(request, f"proofing/{name}", context)


@require_POST
def do(request, pk: int):
    """Settle something, note something, or undo; the sheet as it is then."""
    page = Page.of(owned(request, _RECORDINGS, pk=pk))
    told, wrong = "", False
    try:
        with transaction.atomic():
            told = edits.do(page.looked_at_again(), request.user, request.POST.get("op", ""), request.POST.dict())
    except MasteringError as error:
        told, wrong = str(error), True
    page.refresh_from_db()
    context = _shown(request, page) | {"told": told, "told_wrong": wrong}
    return render(request, "proofing/_rows.html", context)


def printed(request, pk: int, kind: str):
    """The proof sheet as CSV or PDF."""
    recording = owned(request, _RECORDINGS, pk=pk)
    found = Sheet(Page.of(recording))
    section = _section(request, found.page)
    rows = found.rows(section)
    name = Path(recording.name).stem if section is None else section.title
    if kind == "csv":
        return _file(paper.sheet_as_csv(rows), kind, f"{name} proof.csv")
    if kind == "pdf":
        title = said(Said("proof-sheet"))
        intro = f"{recording.production.title} · {name}"
        return _file(paper.sheet_as_pdf(title, intro, rows), kind, f"{name} proof.pdf")
    raise Http404


@never_cache
def listening(request, pk: int):
    """The text as it is played, to note what is wrong with a word."""
    recording = owned(request, _RECORDINGS, pk=pk)
    context = {"recording": recording, "production": recording.production}
    try:
        found = Sheet(Page.of(recording))
        found.words.queue()
        section = _section(request, found.page)
        state = state_of(found.words)
        context |= {"state": state, "section": section}
        if found.words.heard is not None:
            context["sentences"] = heard_sentences(found.page, _spans(found, section))
        context["noted_words"] = [row.start_s for row in found.rows(section) if row.is_noted]
    except MasteringError as error:
        context["wrong"] = str(error)
    return render(request, "proofing/listening.html", context)


@never_cache
def pickups(request, pk: int):
    """All that is to be read again, large enough to read from."""
    production = owned(request, Production.objects, pk=pk)
    wanted = pickups_of(production)
    takes = production.recordings.filter(state=Recording.State.READY).order_by("-created_at")
    own = {each.page.recording_id for each in wanted}
    context = {"production": production, "pickups": wanted, "takes": [take for take in takes if take.pk not in own]}
    return render(request, "proofing/pickups.html", context)


def pickups_printed(request, pk: int, kind: str):
    """The pickup list as CSV or PDF."""
    production = owned(request, Production.objects, pk=pk)
    wanted = pickups_of(production)
    if kind == "csv":
        return _file(paper.pickups_as_csv(wanted), kind, f"{production.title} pickups.csv")
    if kind == "pdf":
        title = said(Said("read-again-label"))
        return _file(paper.pickups_as_pdf(title, production.title, wanted), kind, f"{production.title} pickups.pdf")
    raise Http404


@never_cache
def take(request, pk: int, recording: int):
    """The take in which pickups were read: where each was found, shown before it is put in."""
    production = owned(request, Production.objects, pk=pk)
    own = owned(request, _RECORDINGS.filter(production=production), pk=recording)
    wanted = pickups_of(production)
    context = {"production": production, "recording": own, "pickups": wanted}
    try:
        page = Page.of(own)
        if request.method == "POST" and request.POST.get("do") == "put-in":
            chosen = set(request.POST.getlist("key"))
            known = [each for each in placed(page, wanted) if _key(each.pickup) in chosen and each.place]
            count = put_in(production, request.user, own, known)
            counted = Said("pickups-put-undo-running-order", count=count)
            messages.success(request, counted)
            return redirect("proofing:pickups", pk)
        if wanted:
            with transaction.atomic():
                give_sentences(page.looked_at_again(), request.user, wanted)
        found = Sheet(page)
        found.words.queue()
        context["state"] = state_of(found.words)
        if found.words.heard is not None:
            found_in_take = placed(page, wanted)
            rate_hz = page.sample_rate_hz
            context["rows"] = [(_key(each.pickup), each, each.taken_samples(rate_hz)) for each in found_in_take]
    except MasteringError as error:
        context["wrong"] = str(error)
    name = "_take.html" if request.htmx else "take.html"
    return render(request, f"proofing/{name}", context)


def _key(pickup) -> str:
    return f"{pickup.page.pk}/{pickup.row.key}"


def _shown(request, page: Page) -> dict:
    found = Sheet(page)
    found.words.queue()
    section = _section(request, page)
    every = found.rows(section)
    show_all, of_section = _asked(request, "show") == "all", {"section": section.pk} if section else {}
    rows = every if show_all else [row for row in every if not row.settled]
    hearing = found.words.hearing
    return {
        "recording": page.recording,
        "production": page.production,
        "state": state_of(found.words),
        "listening": bool(hearing and hearing.is_under_way),
        "rows": Paginator(rows, _ROWS_A_PAGE).get_page(_asked(request, "page")),
        "show_all": show_all,
        "finds": paper.FINDS,
        "settled": sum(bool(row.settled) for row in every),
        "open": sum(not row.settled for row in every),
        "wanted": sum(row.settled == WANTED for row in every),
        "section": section,
        "asked": urlencode({"show": "all" if show_all else "open"} | of_section),
        "other": urlencode({"show": "open" if show_all else "all"} | of_section),
        "sections": [each for each, _, _ in sections_on(page)],
        "links": [link for link in Shared.objects.filter(page=page) if link.works],
        "undoable": last_change(page.production),
        "rate_hz": page.sample_rate_hz,
    }


def _asked(request, name: str) -> str:
    return request.POST.get(name) or request.GET.get(name, "")


def _section(request, page: Page) -> Section | None:
    key = whole_number(_asked(request, "section"))
    return page.production.sections.with_pieces().filter(pk=key).first() if key else None


def _spans(found: Sheet, section: Section | None) -> list[tuple[int, int]]:
    """The stretches of a section on this page; none for the whole of it."""
    key = str(found.page.recording_id)
    mine = [stretch for stretch in section.stretches() if stretch.recording == key] if section else []
    return [(stretch.start_sample, stretch.end_sample) for stretch in mine]


def _file(data: str | bytes, kind: str, name: str) -> HttpResponse:
    response = HttpResponse(data, content_type=_TYPES[kind])
    response["Content-Disposition"] = content_disposition_header(True, name)
    return response
