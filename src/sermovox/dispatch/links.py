"""What did not fit into a mail, fetched by its link: by whoever has it, for as long as it works."""

import mimetypes
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

from django.contrib.auth.decorators import login_not_required
from django.http import Http404, StreamingHttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import render
from django.utils.http import content_disposition_header
from django.views.decorators.http import require_safe

from mastering.said import Said
from sermovox.dispatch.models import Dispatch, Part
from sermovox.dispatch.opened import opened
from sermovox.dispatch.ways.carrier import CHUNK_BYTES, NotSent
from sermovox.ui.ranges import asked_range, beyond
from sermovox.ui.ranges import part as some_of
from sermovox.ui.unseen import unseen

FETCHED_BY_LINK, ITS_MAIL_IS_THERE = Said("fetched-whole-link"), Said("mail-there-link-used")
_GONE = 410


@require_safe
@login_not_required
def fetch(request, key: str):
    """What there is to be fetched."""
    dispatch = _linked(key)
    status = 200 if dispatch.links_work else _GONE
    context = {"dispatch": dispatch, "parts": dispatch.parts.filter(by_link=True)}
    return unseen(render(request, "dispatch/fetch.html", context, status=status))


@require_safe
@login_not_required
def fetch_file(request, key: str, pk: int):
    """One file, whole or from where it broke off."""
    dispatch = _linked(key)
    part = dispatch.parts.filter(pk=pk, by_link=True).select_related("file__delivery__production").first()
    if part is None:
        raise Http404
    try:
        if not dispatch.links_work:
            raise NotSent(Said("link-ended"))
        file = opened(part)
    except NotSent as error:
        context = {"dispatch": dispatch, "parts": [], "said": str(error)}
        return unseen(render(request, "dispatch/fetch.html", context, status=_GONE))
    size = part.size_bytes
    start, stop = asked_range(request, size) or (0, size)
    kind = mimetypes.guess_type(part.name)[0] or "application/octet-stream"
    if start >= stop and size:
        file.close()
        return beyond(size)
    content = _content(file, start, stop, lambda end: _note(part.pk, start, end))
    response: HttpResponseBase
    if (start, stop) == (0, size):
        response = StreamingHttpResponse(content, content_type=kind)
        response["Content-Length"] = size
        response["Accept-Ranges"] = "bytes"
    else:
        response = some_of(content, start, stop, size, kind)
    response["Content-Disposition"] = content_disposition_header(True, Path(part.name).name) or "attachment"
    return unseen(response)


def _linked(key: str) -> Dispatch:
    dispatch = Dispatch.objects.filter(link_key=key, state__in=Dispatch.GONE).first()
    if not key or dispatch is None:
        raise Http404
    return dispatch


def _content(file: BinaryIO, start: int, stop: int, noted: Callable[[int], None]) -> Iterator[bytes]:
    """The bytes from `start` up to `stop`; what was taken of them is noted at the end, however that comes."""
    taken = start
    with file:
        file.seek(start)
        try:
            while taken < stop and (chunk := file.read(min(CHUNK_BYTES, stop - taken))):
                yield chunk
                taken += len(chunk)
        finally:
            noted(taken)


def _note(pk: int, start: int, end: int) -> None:
    """A file has arrived once all of it was fetched, in one piece or in several that follow each other."""
    Part.objects.filter(pk=pk, sent_bytes__gte=start, sent_bytes__lt=end).update(sent_bytes=end)
    part = Part.objects.select_related("dispatch").get(pk=pk)
    if part.state == Part.State.SENT and part.sent_bytes == part.size_bytes:
        part.arrive(FETCHED_BY_LINK)
        # Where a link was used, its mail is there, and so is what was attached to it.
        for attached in part.dispatch.parts.filter(by_link=False, state=Part.State.SENT):
            attached.arrive(ITS_MAIL_IS_THERE)
        part.dispatch.look_whether_arrived()
