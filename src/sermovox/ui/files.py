"""Sending files, whole or in part."""

import mimetypes
from collections.abc import Iterator
from pathlib import Path

from django.http import FileResponse
from django.http.response import HttpResponseBase

from mastering.audio.formats import CONTAINERS
from sermovox.ui.ranges import asked_range, beyond, part

_CHUNK_BYTES = 1 << 18


def send_audio(request, path: Path, *, container: str = "") -> HttpResponseBase:
    """Answer with a file for playing; honours one byte range, so that players can seek."""
    size = path.stat().st_size
    known = CONTAINERS[container].media_type if container in CONTAINERS else ""
    content_type = known or mimetypes.guess_type(path.name)[0] or "application/octet-stream"
    asked = asked_range(request, size)
    response: HttpResponseBase
    if asked is None:
        response = FileResponse(path.open("rb"), content_type=content_type)
        response["Accept-Ranges"] = "bytes"
    elif asked[0] >= asked[1]:
        return beyond(size)
    else:
        response = part(_part(path, *asked), *asked, size, content_type)
    response["Cache-Control"] = "private, max-age=3600"
    return response


def _part(path: Path, start: int, stop: int) -> Iterator[bytes]:
    with path.open("rb") as file:
        file.seek(start)
        while start < stop:
            chunk = file.read(min(_CHUNK_BYTES, stop - start))
            if not chunk:
                return
            start += len(chunk)
            yield chunk
