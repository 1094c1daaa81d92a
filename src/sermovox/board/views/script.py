"""A running order made in one go from a script: read, preview, make."""

from typing import Any

from django.contrib import messages
from django.db import transaction
from django.http import JsonResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from mastering.editing.documents import is_package
from mastering.editing.roles import ROLES
from mastering.editing.scripts import (
    COLUMN_SEPARATORS,
    COLUMNS,
    LAYOUTS,
    Layout,
    entries,
    rows_of,
)
from mastering.editing.texts import ENCODINGS, decoded
from mastering.errors import MasteringError
from mastering.naming.checks import check_names
from mastering.said import Said
from sermovox.board.forms import ScriptForm, shape_of
from sermovox.keeping.apart import document_text
from sermovox.productions import order
from sermovox.productions.models import Production
from sermovox.ui import words
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen, revision_of

_LARGEST_BYTES = 32 << 20
_SHOWN = 200


def script(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    context = {
        "production": production,
        "layouts": LAYOUTS,
        "roles": ROLES,
        "encodings": ENCODINGS,
        "separators": COLUMN_SEPARATORS,
        "section_count": production.sections.count(),
    }
    return render(request, "board/script.html", context)


@require_POST
def read(request, pk: int):
    """The text of a chosen file: {"text", "encoding"} or {"problem"}."""
    owned(request, Production.objects, pk=pk)
    file = request.FILES.get("file")
    try:
        if file is None or not file.size:
            raise MasteringError(Said("file-empty-choose-another"))
        if file.size > _LARGEST_BYTES:
            raise MasteringError(Said("file-larger-than-mib-more", largest_bytes=_LARGEST_BYTES >> 20))
        data = file.read()
        if is_package(data):
            return JsonResponse({"text": document_text(data), "encoding": ""})
        encoding = request.POST.get("encoding")
        text, found = decoded(data, encoding if encoding in ENCODINGS else None)
        return JsonResponse({"text": text, "encoding": found})
    except MasteringError as error:
        return JsonResponse({"problem": words.said(str(error))})


@require_POST
def preview(request, pk: int):
    """What the text would become."""
    return render(request, "board/_script_preview.html", _read(request, owned(request, Production.objects, pk=pk)))


@require_POST
def make(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    found = _read(request, production)
    made = [row["entry"] for row in found["all"] if not row["skipped"]]
    if found["problem"] or not made:
        messages.error(request, found["problem"] or Said("there-nothing-make-sections-paste"))
        return redirect("productions:script", pk=pk)
    with transaction.atomic():
        instead = ScriptForm(request.POST).instead
        if instead and not is_as_seen(request, _revision(production)):
            messages.error(request, ELSEWHERE)
            return redirect(production)
        count = order.build(production, request.user, made, instead=instead)
    messages.success(request, Said("sections-made-undo-takes-them", count=count))
    return redirect(production)


def _revision(production: Production) -> str:
    return revision_of([(s.pk, s.title, s.recording_id) for s in production.sections.with_pieces("figures", "remarks")])


def _read(request, production: Production) -> dict:
    form = ScriptForm(request.POST)
    context = {"production": production, "digest": form.digest, "problem": "", "all": [], "layout": None}
    try:
        layout = form.layout()
        found = entries(form.script, layout, role=form.role)
    except MasteringError as error:
        return context | {"problem": words.said(str(error))}
    skipped = form.skipped
    rows: list[dict[str, Any]] = [
        {"at": at, "entry": entry, "skipped": at in skipped} for at, entry in enumerate(found)
    ]
    return context | {
        "layout": layout,
        "said_layout": LAYOUTS[layout.kind],
        "separator": COLUMN_SEPARATORS.get(layout.separator, ""),
        "columns": _columns(form.script, layout),
        "column_kinds": COLUMNS,
        "shape": shape_of(layout),
        "section_count": production.sections.count(),
        "seen": _revision(production),
        "instead": form.instead,
        "all": rows,
        "shown": rows[:_SHOWN],
        "count": len(rows) - len(skipped),
        "more": max(0, len(rows) - _SHOWN),
        "has_names": any(entry.name for entry in found),
        "has_text": any(entry.text for entry in found),
        "problems": _problems([row["entry"].name for row in rows if not row["skipped"]]),
    }


def _columns(text: str, layout: Layout) -> list[dict[str, str]]:
    """What each column of a table holds, with its first filled cell."""
    if layout.kind != "columns":
        return []
    rows = rows_of(text, layout.separator)[layout.header : _SHOWN]
    samples = [next((row[at] for row in rows if at < len(row) and row[at]), "") for at in range(len(layout.columns))]
    return [{"kind": kind, "sample": sample} for kind, sample in zip(layout.columns, samples, strict=True)]


def _problems(names: list[str]) -> list[str]:
    """What is wrong with dictated names, the first few."""
    if not any(names):
        return []
    missing = sum(not name for name in names)
    told: list[str] = [Said("no-file-name", count=missing)] if missing else []
    grave = [problem for problem in check_names(names) if problem.grave and names[problem.index]]
    told += [Said("of-name", name=names[problem.index], words=problem.words) for problem in grave[:8]]
    return told + ([Said("more-2", count=len(grave) - 8)] if len(grave) > 8 else [])
