"""Parts of what is sent, as players ask for them: one byte range (RFC 9110 section 14)."""

import re
from collections.abc import Iterable

from django.http import HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase

_RANGE = re.compile(r"bytes=([0-9]{0,18})-([0-9]{0,18})")


def asked_range(request, size_bytes: int) -> tuple[int, int] | None:
    """The first byte that is asked for and the one after the last; None where all is. It may lie beyond the end."""
    wanted = _RANGE.fullmatch(request.headers.get("Range", "").strip())
    if not wanted or wanted.groups() == ("", ""):
        return None
    first, last = wanted.groups()
    if not first:
        return max(0, size_bytes - int(last)), size_bytes
    return int(first), min(size_bytes, int(last) + 1 if last else size_bytes)


def part(
    content: bytes | Iterable[bytes], start: int, stop: int, size_bytes: int, content_type: str
) -> HttpResponseBase:
    """Answer with the bytes from `start` up to `stop` of so many."""
    kind = HttpResponse if isinstance(content, bytes) else StreamingHttpResponse
    response = kind(content, status=206, content_type=content_type)
    response["Content-Length"] = stop - start
    response["Content-Range"] = f"bytes {start}-{stop - 1}/{size_bytes}"
    response["Accept-Ranges"] = "bytes"
    return response


def beyond(size_bytes: int) -> HttpResponse:
    """Answer that there is nothing there."""
    return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size_bytes}"})
