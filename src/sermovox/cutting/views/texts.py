"""The text of a page: given, listened for, and its words."""

from collections.abc import Sequence
from pathlib import Path

from django.contrib import messages
from django.db import transaction
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import redirect
from django.utils.http import content_disposition_header
from django.views.decorators.http import require_POST

from mastering.errors import MasteringError
from mastering.said import Said
from mastering.words.timed import WRITERS, TimedText, as_rows, in_cues
from sermovox.cutting import wordcuts
from sermovox.cutting.models import Page
from sermovox.cutting.texts import Words, levels_of, rows_of, state_of
from sermovox.cutting.views.page import RECORDINGS, said
from sermovox.scripts.models import Hearing
from sermovox.ui.numerals import whole_number
from sermovox.ui.owned import owned

_TYPES = {"vtt": "text/vtt", "srt": "application/x-subrip", "json": "application/json", "txt": "text/plain"}
_FEWEST_LETTERS = 10


@said
def words(request, pk: int):
    """The words where they were spoken, or how far they are found; 204 where they are those that are known. While they
    are looked for, those of the first `so_far` readings, unless as many are known.
    """
    found = Words(Page.of(owned(request, RECORDINGS, pk=pk)))
    found.queue()
    told = state_of(found)
    if told["key"] and request.GET.get("known") == told["key"] and told["state"] == Hearing.State.HEARD:
        return HttpResponse(status=204)
    if found.heard:
        told |= rows_of(found.heard) | {"levels": levels_of(found.page, found.heard)}
    elif begun := found.heard_so_far:
        told["so_far"] = len(begun.readings)
        if request.GET.get("so_far") != str(told["so_far"]):
            told |= rows_of(begun)
    return JsonResponse(told)


def take_out(request, pk: int, kind: str):
    """The words of what remains of a recording, at their times in it, as one of the open formats; `most` parts them by
    so many characters.
    """
    recording = owned(request, RECORDINGS, pk=pk)
    try:
        sentences = Words(Page.of(recording)).said()
    except MasteringError as error:
        messages.error(request, str(error))
        return redirect("cutting:page", pk)
    return words_file(request, sentences, kind, Path(recording.name).stem)


@require_POST
@said
def listen(request, pk: int):
    """Listen for the words again, or leave it: `do` is "again" or "leave"."""
    found = Words(Page.of(owned(request, RECORDINGS, pk=pk)))
    if found.hearing:
        if request.POST.get("do") == "leave":
            found.hearing.leave()
        else:
            found.hearing.again()
        found = Words(found.page)
        found.queue()
    return JsonResponse(state_of(found))


@require_POST
def give(request, pk: int):
    """Give the page a text, as one change that can be undone."""
    recording = owned(request, RECORDINGS, pk=pk)
    file = request.FILES.get("file")
    try:
        if file and file.size > wordcuts.LARGEST_TEXT_BYTES:
            raise MasteringError(
                Said("file-larger-than-mib-more-than", largest_text_bytes=wordcuts.LARGEST_TEXT_BYTES >> 20)
            )
        page = Page.of(recording)
        with transaction.atomic():
            wordcuts.give_text(
                page.looked_at_again(),
                request.user,
                text=request.POST.get("text", ""),
                data=file.read() if file else b"",
                name=file.name if file else "",
                language=request.POST.get("language", ""),
            )
        messages.success(request, Said("page-text-undo-takes-back"))
    except MasteringError as error:
        messages.error(request, str(error))
    return redirect("cutting:page", pk)


def words_file(request, sentences: Sequence[Sequence[TimedText]], kind: str, name: str) -> HttpResponse:
    """Words as a file to take away: WebVTT, SRT, a transcript as JSON, or labels."""
    if kind not in _TYPES:
        raise Http404
    most = whole_number(request.GET.get("most"))
    cues = in_cues(sentences, max(_FEWEST_LETTERS, most) if most else None)
    written = as_rows([((cue.start_s, cue.end_s), cue.text) for cue in cues]) if kind == "txt" else WRITERS[kind](cues)
    response = HttpResponse(written, content_type=f"{_TYPES[kind]}; charset=utf-8")
    response["Content-Disposition"] = content_disposition_header(True, f"{name}.{kind}")
    return response
