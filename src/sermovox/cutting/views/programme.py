"""The programme of a section: its pieces in order, and how they join."""

import zlib
from collections.abc import Callable

from django.contrib import messages
from django.db import transaction
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from mastering.clock import clock
from mastering.editing.assembly import BUTT, CROSSFADE, KINDS, PAUSE, Stretch
from mastering.editing.pieces import BadCut
from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.cutting.forms import PieceForm
from sermovox.cutting.listening import send_programme
from sermovox.cutting.picture import picture_of
from sermovox.cutting.programmes import Assembly, at_one_level
from sermovox.cutting.views.page import said
from sermovox.history.changing import changing, last_change, next_change
from sermovox.history.commands import Commands
from sermovox.productions.models import Section
from sermovox.recordings.models import Recording
from sermovox.ui.numerals import whole_number
from sermovox.ui.owned import owned

_SECTIONS = Section.objects.select_related("production").with_pieces()
JOINS = [(BUTT, "directly"), (CROSSFADE, Said("crossfade")), (PAUSE, Said("after-room-tone"))]
_ELSEWHERE = Said("section-changed-another-window-shows")


def programme(request, pk: int):
    """Show the pieces, or change them as `do` says; every change can be undone."""
    section = owned(request, _SECTIONS, pk=pk)
    if request.method == "POST":
        try:
            with transaction.atomic():
                section.forget_pieces()
                if request.POST.get("seen") != stamp_of(section):
                    raise BadCut(_ELSEWHERE)
                said = commands.run(request.POST.get("do", ""), section.production, section, request)
            if said:
                messages.success(request, said)
        except MasteringError as error:
            messages.error(request, str(error))
        return redirect("cutting:programme", pk)
    production = section.production
    known = {str(recording.pk): recording for recording in Recording.with_deleted.filter(production=production)}
    rows = []
    for at, stretch in enumerate(section.stretches()):
        recording = known.get(stretch.recording)
        rate_hz = recording.figures.get("sample_rate_hz", 1) if recording else 1
        rows.append(
            {
                "at": at,
                "recording": recording,
                "start": clock(stretch.start_sample / rate_hz, 3),
                "end": clock(stretch.end_sample / rate_hz, 3),
                "seconds": stretch.samples / rate_hz,
                "join": stretch.join,
                "join_s": stretch.join_s,
                "kind": stretch.kind,
                "gain_db": f"{stretch.gain_db:g}",
                "fade_in_s": f"{stretch.fade_in_s:g}",
                "fade_out_s": f"{stretch.fade_out_s:g}",
            }
        )
    context = {
        "section": section,
        "production": production,
        "rows": rows,
        "stamp": stamp_of(section),
        "joins": JOINS,
        "kinds": KINDS,
        "recordings": [recording for recording in known.values() if recording.ready],
        "undoable": last_change(production),
        "redoable": next_change(production),
    }
    try:
        made = Assembly(production)
        context["length_s"] = made.seconds(section.stretches()) if rows else None
        context["picture"] = picture_of(section, made, known)
    except MasteringError as error:
        context["wrong"] = str(error)
    return render(request, "cutting/programme.html", context)


@said
def listen(request, pk: int):
    """The section as it will sound, before it is levelled."""
    section = owned(request, _SECTIONS, pk=pk)
    return send_programme(request, Assembly(section.production).programme(section.stretches()))


@require_POST
def one_level(request, pk: int):
    """Bring the pieces of a section to one level, from wherever that was found wanting."""
    section = owned(request, _SECTIONS, pk=pk)
    try:
        with transaction.atomic():
            section.forget_pieces()
            commands.run("one-level", section.production, section, request)
        messages.success(request, Said("pieces-one-level-now-undo"))
    except MasteringError as error:
        messages.error(request, str(error))
    return redirect("cutting:programme", pk)


def stamp_of(section: Section) -> str:
    """Changes whenever the pieces do."""
    return f"{section.recording_id}.{zlib.crc32(repr(section.stretches()).encode())}"


def _changed_by(command: Callable, section: Section, request) -> str:
    """Change the pieces of a section as one change that can be undone."""
    stretches = list(section.stretches())
    words = command(section, stretches, request)
    with changing(section.production, request.user, words):
        section.set_stretches(stretches)
    return ""


commands = Commands(within=_changed_by)


@commands("remove")
def _remove(section: Section, stretches: list[Stretch], request) -> str:
    del stretches[_place(stretches, request)]
    return Said("take-piece-out", title=section.title)


@commands("move")
def _move(section: Section, stretches: list[Stretch], request) -> str:
    moved = stretches.pop(_place(stretches, request))
    to = whole_number(request.POST.get("to"))
    stretches.insert(len(stretches) if to is None else min(to, len(stretches)), moved)
    return Said("move-piece", title=section.title)


@commands("set")
def _set(section: Section, stretches: list[Stretch], request) -> str:
    at = _place(stretches, request)
    stretches[at] = PieceForm(request.POST, production=section.production, was=stretches[at]).stretch()
    return Said("change-piece", title=section.title)


@commands("add")
def _add(section: Section, stretches: list[Stretch], request) -> str:
    to = whole_number(request.POST.get("to"))
    piece = PieceForm(request.POST, production=section.production).stretch()
    stretches.insert(len(stretches) if to is None else min(to, len(stretches)), piece)
    return Said("add-piece", title=section.title)


@commands("one-level")
def _one_level(section: Section, stretches: list[Stretch], request) -> str:
    stretches[:] = at_one_level(section, stretches)
    return Said("bring-pieces-one-level", title=section.title)


def _place(stretches: list[Stretch], request) -> int:
    at = whole_number(request.POST.get("at"))
    if at is None or at >= len(stretches):
        raise BadCut(Said("piece-no-longer-there-list"))
    return at
