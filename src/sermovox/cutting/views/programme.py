"""The programme of a section: its pieces in order, and how they join."""

import zlib
from collections.abc import Callable

from django.contrib import messages
from django.db import transaction
from django.shortcuts import redirect, render

from mastering.clock import clock
from mastering.editing.assembly import BUTT, CROSSFADE, KINDS, PAUSE, Stretch, check_join
from mastering.editing.labels import seconds_of
from mastering.editing.pieces import BadCut, Span, check_span
from mastering.errors import MasteringError
from sermovox.cutting.listening import send_programme
from sermovox.cutting.programmes import Assembly
from sermovox.cutting.views.page import said
from sermovox.history.changing import changing, last_change, next_change
from sermovox.history.commands import Commands
from sermovox.numerals import whole_number
from sermovox.productions.models import Section
from sermovox.recordings.models import Recording
from sermovox.ui.owned import owned

_SECTIONS = Section.objects.select_related("production").with_pieces()
JOINS = [(BUTT, "directly"), (CROSSFADE, "with a crossfade of"), (PAUSE, "after room tone of")]
_ELSEWHERE = "This section was changed in another window. It shows now how it is; look, and do it again."
_DEFAULT_JOIN_S = {BUTT: 0.0, CROSSFADE: 0.5, PAUSE: 1.0}


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
    except MasteringError as error:
        context["wrong"] = str(error)
    return render(request, "cutting/programme.html", context)


@said
def listen(request, pk: int):
    """The section as it will sound, before it is levelled."""
    section = owned(request, _SECTIONS, pk=pk)
    return send_programme(request, Assembly(section.production).programme(section.stretches()))


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
    return f"Take a piece out of “{section.title}”"


@commands("move")
def _move(section: Section, stretches: list[Stretch], request) -> str:
    moved = stretches.pop(_place(stretches, request))
    to = whole_number(request.POST.get("to"))
    stretches.insert(len(stretches) if to is None else min(to, len(stretches)), moved)
    return f"Move a piece of “{section.title}”"


@commands("set")
def _set(section: Section, stretches: list[Stretch], request) -> str:
    at = _place(stretches, request)
    stretches[at] = _stretch(section, request, stretches[at].recording, stretches[at])
    return f"Change a piece of “{section.title}”"


@commands("add")
def _add(section: Section, stretches: list[Stretch], request) -> str:
    stretches.append(_stretch(section, request, request.POST.get("recording", "")))
    return f"Add a piece to “{section.title}”"


def _place(stretches: list[Stretch], request) -> int:
    at = whole_number(request.POST.get("at"))
    if at is None or at >= len(stretches):
        raise BadCut("This piece is no longer there. The list shows how it is now.")
    return at


def _stretch(section: Section, request, key: str, was: Stretch | None = None) -> Stretch:
    recording = section.production.recordings.filter(pk=whole_number(key) or 0).first()
    if recording is None or not recording.ready:
        raise BadCut("Choose a recording of this production. This one is not there, or cannot be used yet.")
    rate_hz = recording.figures["sample_rate_hz"]
    start, end = request.POST.get("start", "").strip(), request.POST.get("end", "").strip()
    join = request.POST.get("join", BUTT)
    join_s = request.POST.get("join_s", "").strip()
    end_sample = round(seconds_of(end, "The end") * rate_hz) if end else recording.frames
    start_sample = round(seconds_of(start, "The start") * rate_hz) if start else 0
    if 0 < end_sample - recording.frames <= rate_hz // 1000:
        # Written to the millisecond, the end may lie a moment beyond it.
        end_sample = recording.frames
    # A time that was not changed stays where it is to the sample.
    if was and start == clock(was.start_sample / rate_hz, 3):
        start_sample = was.start_sample
    if was and end == clock(was.end_sample / rate_hz, 3):
        end_sample = was.end_sample
    stretch = Stretch(
        recording=key,
        start_sample=start_sample,
        end_sample=end_sample,
        join=join,
        join_s=0.0 if join == BUTT else seconds_of(join_s, "The join") if join_s else _DEFAULT_JOIN_S.get(join, 0.0),
        kind=request.POST.get("kind", was.kind if was else ""),
        gain_db=_decibels(request.POST.get("gain_db", ""), was.gain_db if was else 0.0),
        fade_in_s=_fade_s(request.POST.get("fade_in_s", ""), "The fade in"),
        fade_out_s=_fade_s(request.POST.get("fade_out_s", ""), "The fade out"),
    )
    check_span(Span(key, stretch.start_sample, stretch.end_sample), recording.frames)
    check_join(stretch)
    return stretch


def _fade_s(text: str, what: str) -> float:
    return seconds_of(text.strip(), what) if text.strip() else 0.0


def _decibels(text: str, otherwise: float) -> float:
    text = text.strip().replace(",", ".").replace("−", "-")
    if not text:
        return otherwise
    try:
        return round(float(text), 2)
    except ValueError as error:
        raise BadCut(f"“{text[:20]}” is no gain. Write decibels, such as -3.") from error
