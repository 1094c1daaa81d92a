"""The running order of a production, and every change of it."""

import hashlib
import json
from functools import lru_cache
from typing import Any

from django.core.paginator import Paginator
from django.http import HttpResponse, HttpResponseBadRequest
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.cache import never_cache
from django.views.decorators.http import require_POST

from mastering.errors import MasteringError
from mastering.naming.described import described
from mastering.outlets.outlet import Outlet
from mastering.said import Said, together, word
from sermovox.board.next_step import Standing, next_step
from sermovox.deliveries.crossings import CHANGED, TO_DO, Board, Crossing, State
from sermovox.dispatch.models import Dispatch, Part
from sermovox.history.changing import last_change, next_change
from sermovox.history.commands import Commands, NoSuchCommand
from sermovox.history.models import Change
from sermovox.levelling.forms import in_words
from sermovox.productions import order
from sermovox.productions.models import Piece, Production, Section
from sermovox.recordings.models import Recording
from sermovox.recordings.views import arrivals_of
from sermovox.ui import words
from sermovox.ui.numerals import whole_number, whole_numbers
from sermovox.ui.owned import owned

ROWS_A_PAGE = 300
commands = Commands()
_UNUSED_SHOWN = 60
_STATES = [
    TO_DO,
    State.WAITING,
    State.MAKING,
    State.PASSES,
    State.REMARKS,
    Dispatch.State.SENDING,
    Dispatch.State.THERE,
    Dispatch.State.ARRIVED,
    Dispatch.State.STUCK,
    CHANGED,
    State.FAILS,
    State.REFUSED,
]


# Going back to it shows how things stand, not how they stood.
@never_cache
def running_order(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    context = _rows(production, request.GET.get("page")) | arrivals_of(production) | {"states": _STATES}
    return render(request, "board/running_order.html", context)


def rows(request, pk: int):
    """The rows alone, asked for again and again; 204 when nothing has changed since `?seen=`."""
    context = _rows(owned(request, Production.objects, pk=pk), request.GET.get("page"))
    if request.GET.get("seen") == context["stamp"]:
        return HttpResponse(status=204)
    return render(request, "board/_changed.html", context | {"known": _known(request)})


@require_POST
def change(request, pk: int):
    """Change the running order as `do` says, and answer with the rows."""
    production = owned(request, Production.objects, pk=pk)
    do, asked = request.POST.get("do", ""), {}
    try:
        said = commands.run(do, production, production, request)
    except NoSuchCommand as error:
        return HttpResponseBadRequest(words.said(str(error)))
    except order.TreatedOtherwise as error:
        said, asked = str(error), _treatments_to_choose(*error.sections)
    except MasteringError as error:
        said = str(error)
    if do == "move":
        # The page has moved the row already.
        return HttpResponse(status=204)
    page = request.POST.get("page")
    return render(
        request, "board/_changed.html", _rows(production, page) | {"said": said, "known": _known(request)} | asked
    )


def _known(request) -> set[str]:
    """The digests of the rows that the page has, which are not sent once more."""
    return set(request.headers.get("X-Drawn", "").split(","))


def _treatments_to_choose(first: Section, second: Section) -> dict[str, Any]:
    """How one section of two may be treated: what each of them has otherwise than the other."""
    choices = [
        {"key": own.pk, "title": own.title, "treated": in_words([(other.wishes, own.wishes)])}
        for own, other in ((first, second), (second, first))
    ]
    return {"merged": first.pk, "choices": choices}


@commands("move")
def _move(production: Production, request) -> str:
    sections = whole_numbers(request.POST.getlist("section"))
    before = request.POST.get("before", "")
    order.move(production, request.user, sections, whole_number(before))
    return ""


@commands("add")
def _add(production: Production, request) -> str:
    after = request.POST.get("section", "")
    order.add(production, request.user, whole_number(after))
    return Said("there-new-section-open-give")


@commands("remove")
def _remove(production: Production, request) -> str:
    section = _section_of(production, request)
    order.remove(production, request.user, section)
    return Said("is-out-of-the-running-order-its-recording-is-kept", title=section.title)


@commands("merge")
def _merge(production: Production, request) -> str:
    section = _section_of(production, request)
    following = production.sections.filter(position__gt=section.position).first()
    both = section.recording_id and following and following.recording_id
    as_treated = whole_number(request.POST.get("as_treated", ""))
    if order.merge(production, request.user, section, as_treated=as_treated) is None or following is None:
        return Said("last-there-no-next-one", title=section.title)
    together = Said("their-recordings-put-together") if both else ""
    return Said("one-section", title=section.title, title_2=following.title, together=together)


@commands("split")
def _split(production: Production, request) -> str:
    section = _section_of(production, request)
    second = order.split(production, request.user, section)
    return Said("two-parts-part-waits-recording", title=section.title, part=second.part)


@commands("assign")
def _assign(production: Production, request) -> str:
    section = _section_of(production, request)
    key = request.POST.get("recording", "")
    recording = production.recordings.filter(pk=whole_number(key) or 0).first()
    words = (
        Said("give-label", title=section.title, name=recording.name)
        if recording
        else Said("take-recording-from", title=section.title)
    )
    order.assign(production, request.user, {section.pk: recording.pk if recording else None}, words)
    return (
        Said("has", title=section.title, name=recording.name)
        if recording
        else Said("no-recording-now", title=section.title)
    )


@commands("as-named")
def _as_named(production: Production, request) -> str:
    """Take back what was read from the names of the files that came in last."""
    count = order.call_as_files(production, request.user, whole_numbers(request.POST.get("sections", "").split(",")))
    return Said("sections-called-files-undo-reads", count=count)


def _read_from_names(production: Production, found: list[dict], undoable: Change | None) -> list[int]:
    """The sections that have their role, number or title from the names of the files that came in last, by their keys;
    none once something was changed since.
    """
    came = [row for row in found if row["recording"] is not None and row["recording"].batch]
    newest = max((row["recording"] for row in came), key=lambda recording: recording.created_at, default=None)
    if newest is None or (undoable and undoable.made_at > newest.created_at):
        return []
    return [
        row["section"].pk
        for row in came
        if row["recording"].batch == newest.batch
        and (read := described(row["recording"].name, production=production.title)).is_more_than_a_title
        and read.title == row["section"].title
    ]


def _recording_address(recording: Recording, *, cut: bool) -> str:
    return _address("cutting:page" if cut and recording.ready else "recordings:slip", recording.pk)


_First = dict[int, tuple[Recording | None, bool]]


def _first_recordings(production: Production) -> _First:
    """That of each section's first piece, by the sections' keys, and whether it is cut. Rows of a model for each piece
    would take a sixth of all the time.
    """
    recordings = Recording.with_deleted.filter(production=production).with_duration().defer("figures").in_bulk()
    first = Piece.objects.filter(section__production=production, section__removed=False, place=0)
    return {
        section: (recordings.get(recording), end is not None)
        for section, recording, end in first.values_list("section_id", "recording_id", "end_sample")
    }


def _rows(production: Production, page: str | None) -> dict:
    outlets = list(production.outlets.values())
    lengths = list(production.sections.values_list("pk", "length_s"))
    shown = Paginator(lengths, ROWS_A_PAGE).get_page(page)
    sections = production.sections.defer("script").in_bulk([key for key, _ in shown])
    first = _first_recordings(production)
    board = Board(production, outlets)
    sent = Part.on_their_way(production)
    chosen = _chosen(production, outlets)
    found: list[dict[str, Any]] = [
        {
            "section": s,
            "key": str(s.pk),
            "place": str(place),
            "recording": (recording := first[s.pk][0] if s.pk in first else None),
            "duration_s": _duration_s(s.length_s, recording),
            "ready": recording is not None and recording.ready,
            "address": _address("productions:section", s.pk),
            "recording_address": recording and _recording_address(recording, cut=first[s.pk][1]),
            "crossings": (crossings := tuple((o.key, *_crossing(board.at(s.pk, o.key), sent)) for o in outlets)),
            "to_make": any(not done for key, *_, done in crossings if key in chosen),
        }
        for place, (key, _) in enumerate(shown, shown.start_index())
        if (s := sections.get(key))
    ]
    moving = board.moving or any(row["recording"] is not None and row["recording"].measuring for row in found)
    undoable, redoable = last_change(production), next_change(production)
    recordings = production.recordings
    waiting = production.sections.waiting().count()
    unused = list(recordings.unused().order_by("name").defer("figures", "remarks")[: _UNUSED_SHOWN + 1])
    asked = [o for o in outlets if o.key in chosen] or [o for o in outlets if board.has_files(o.key)]
    unused_count = len(unused) if len(unused) <= _UNUSED_SHOWN else recordings.unused().count()
    measuring = recordings.filter(state=Recording.State.MEASURING).count()
    keys = [key for key, _ in lengths]
    following = next_step(Standing(production, board, asked, keys, waiting, unused, unused_count, measuring, sent))
    return {
        "next": following,
        "production": production,
        "outlets": outlets,
        "outlet_titles": tuple(outlet.title for outlet in outlets),
        "rows": found,
        "page": shown,
        "moving": moving,
        "chosen_outlets": chosen,
        "changed": board.tally[CHANGED],
        "rewritable": [(outlet, count) for outlet in outlets if (count := board.rewritable(outlet.key))],
        "to_make_json": json.dumps(_to_make(production, outlets, board)) if shown.has_other_pages() else "",
        "standing": [outlet for outlet in outlets if board.has_files(outlet.key)],
        "undoable": undoable,
        "redoable": redoable,
        "read_from_names": _read_from_names(production, found, undoable),
        "unused": unused[:_UNUSED_SHOWN],
        "more_unused": len(unused) > _UNUSED_SHOWN,
        "following": lengths[shown.end_index()][0] if shown.has_next() else "",
        "section_count": len(lengths),
        "without_recording": waiting,
        "total_s": _total_s(lengths, first),
        "deliveries": production.deliveries.all()[:6],
        "stamp": _stamp(found, [recording.pk for recording in unused], following.said, undoable, redoable),
    }


def _duration_s(length_s: float | None, recording: Any) -> float | None:
    """How long a section sounds: as its pieces do, or as its recording."""
    return length_s if length_s is not None else recording.duration_s if recording else None


def _total_s(lengths: list[tuple[int, float | None]], first: _First) -> float:
    """How long all of it sounds, without what was deleted; `lengths` by the sections' keys."""
    total_s = 0.0
    for pk, length_s in lengths:
        recording, _ = first.get(pk, (None, False))
        if recording is None or recording.state != Recording.State.DELETED:
            total_s += _duration_s(length_s, recording) or 0.0
    return total_s


def _chosen(production: Production, outlets: list[Outlet]) -> list[str]:
    """The columns that are ticked: those it was last made for, or the only one there is."""
    keys = [outlet.key for outlet in outlets]
    return keys if len(keys) == 1 else [key for key in production.last_outlets if key in keys]


def _crossing(found: Crossing, sent: dict[int, str]) -> tuple[str, str, str, str]:
    """The state of a section for an outlet, the same in words, where more of it is to be seen, and whether it is done:
    "yes", "tags" where these are to be written again, or nothing. `sent` says which files are on their way or arrived.
    """
    address = ""
    if found.state in (State.WAITING, State.MAKING, State.REFUSED):
        address = _address("deliveries:detail", found.run_id)
    elif found.file_id:
        address = _address("deliveries:check-sheet", found.file_id)
    done = "" if found.needed else "tags" if found.changes else "yes"
    if found.file_id in sent and found.state in (State.PASSES, State.REMARKS):
        return sent[found.file_id], together([found.words, word(sent[found.file_id])], ", "), address, done
    return found.state, found.words, address, done


def _to_make(production: Production, outlets: list[Outlet], board: Board) -> dict[str, list[int]]:
    """For each outlet, how many files of the whole running order are to be made and how many are up to date."""
    first = Piece.objects.filter(section__in=production.sections.all(), place=0)
    ready = first.filter(recording__state=Recording.State.READY).values_list("section_id", flat=True)
    told = {}
    for outlet in outlets:
        done = [not board.at(pk, outlet.key).needed for pk in ready][: 1 if outlet.joined else None]
        told[outlet.key] = [done.count(False), done.count(True)]
    return told


@lru_cache(maxsize=8192)
def _address(name: str, pk: int) -> str:
    return reverse(name, args=[pk])


def _stamp(found: list[dict], unused: list[int], following: str, *changes) -> str:
    """Changes whenever the rows would look different."""
    shown = [
        (s.pk, s.position, s.title, s.role, s.number, s.part, s.content_kind, s.length_s)
        + ((recording.pk, recording.state, recording.share_measured) if (recording := row["recording"]) else ())
        + tuple(words for _, _, words, *_ in row["crossings"])
        for row in found
        if (s := row["section"])
    ]
    return hashlib.sha256(repr((shown, unused, following, [c and c.pk for c in changes])).encode()).hexdigest()[:16]


def _section_of(production: Production, request) -> Section:
    key = request.POST.get("section", "")
    return get_object_or_404(production.sections.with_pieces(), pk=whole_number(key) or 0)
