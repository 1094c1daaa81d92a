"""Sending files, whole or in part."""

import mimetypes
import re
from collections.abc import Iterator
from pathlib import Path

from django.http import FileResponse, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase

_RANGE = re.compile(r"bytes=([0-9]{0,18})-([0-9]{0,18})")
_CHUNK_BYTES = 1 << 18
_AUDIO_TYPES = {
    "wav": "audio/wav",
    "mp3": "audio/mpeg",
    "flac": "audio/flac",
    "mp4": "audio/mp4",
    "ogg": "audio/ogg",
}


def send_audio(request, path: Path, *, container: str = "") -> HttpResponseBase:
    """Answer with a file for playing; honours one byte range (RFC 9110 section 14), so that players can seek."""
    size = path.stat().st_size
    content_type = _AUDIO_TYPES.get(container) or mimetypes.guess_type(path.name)[0] or "application/octet-stream"
    wanted = _RANGE.fullmatch(request.headers.get("Range", "").strip())
    if not wanted or wanted.groups() == ("", ""):
        response = FileResponse(path.open("rb"), content_type=content_type)
    else:
        start, stop = _bounds(*wanted.groups(), size)
        if start >= stop:
            return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size}"})
        response = StreamingHttpResponse(_part(path, start, stop), status=206, content_type=content_type)
        response["Content-Length"] = stop - start
        response["Content-Range"] = f"bytes {start}-{stop - 1}/{size}"
    response["Accept-Ranges"] = "bytes"
    response["Cache-Control"] = "private, max-age=3600"
    return response


def _bounds(first: str, last: str, size: int) -> tuple[int, int]:
    if not first:
        return max(0, size - int(last)), size
    return int(first), min(size, int(last) + 1 if last else size)


def _part(path: Path, start: int, stop: int) -> Iterator[bytes]:
    with path.open("rb") as file:
        file.seek(start)
        while start < stop:
            chunk = file.read(min(_CHUNK_BYTES, stop - start))
            if not chunk:
                return
            start += len(chunk)
            yield chunk
