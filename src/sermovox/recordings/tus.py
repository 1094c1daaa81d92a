"""Resumable uploads by the open tus protocol, version 1.0.0, with creation, termination and expiration.

Source: the protocol's published text, from memory. What became of a whole upload (a recording, or a sentence that
says why not) is asked for with GET.
"""

import base64
import binascii
import hashlib
import logging
import os
from collections.abc import Iterator
from contextlib import suppress
from datetime import timedelta
from functools import wraps

from django.conf import settings
from django.core.files import locks
from django.db import DatabaseError
from django.http import HttpResponse, JsonResponse
from django.urls import reverse
from django.utils.http import http_date

from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.keeping import storage
from sermovox.keeping.room import has_room, left_bytes, let_go
from sermovox.productions.models import Production
from sermovox.recordings.intake import refuse_too_large, shown_name, take_in_upload
from sermovox.recordings.models import Upload
from sermovox.ui import words
from sermovox.ui.numerals import whole_number
from sermovox.ui.owned import owned

VERSION = "1.0.0"
logger = logging.getLogger(__name__)
_CHUNK_BYTES = 1 << 20
_FLUSHED_EVERY_BYTES = 64 << 20
_NOT_THERE = Said("part-does-not-begin-where")
_BODY_TYPE = "application/offset+octet-stream"
_LARGEST_RANK = 2**31 - 1


def _in_words(view):
    """What stands in the way is said as text, which the sender shows, not as a page."""

    @wraps(view)
    def answering(request, *args, **kwargs):
        try:
            return view(request, *args, **kwargs)
        except Upload.DoesNotExist:
            return _answer(410, said=Said("upload-given-up"))
        except DatabaseError as error:
            logger.exception(Said("an-upload"))
            if storage.is_full(error):
                let_go()
                return _answer(507, said=storage.DISK_FULL)
            return _answer(503, said=Said("database-busy-too-long-tried"))

    return answering


@_in_words
def uploads(request, production_id: int) -> HttpResponse:
    """POST begins an upload, OPTIONS tells what the server can do, GET lists the uploads that are not whole yet."""
    if request.method == "OPTIONS":
        return _answer(
            204,
            {"Tus-Version": VERSION, "Tus-Extension": "creation,termination,expiration"}
            | {"Tus-Max-Size": settings.MAX_UPLOAD_BYTES},
        )
    production = owned(request, Production.objects, pk=production_id)
    if request.method == "GET":
        return JsonResponse({"uploads": [_listed(upload) for upload in production.uploads.unfinished()]})
    if request.method != "POST":
        return _answer(405)
    if wrong := _wrong_version(request):
        return wrong
    size = request.headers.get("Upload-Length", "")
    if whole_number(size) is None:
        return _answer(400, said=Said("upload-length-must-say-how"))
    try:
        facts = _metadata(request.headers.get("Upload-Metadata", ""))
        refuse_too_large(int(size))
    except ValueError:
        return _answer(400, said=Said("upload-metadata-cannot-read"))
    except MasteringError as error:
        return _answer(413, said=str(error))
    if not has_room(int(size)):
        return _answer(507, said=storage.DISK_FULL)
    upload = production.uploads.create(
        name=shown_name(facts.get("filename", "")),
        size_bytes=int(size),
        batch=facts.get("batch", "")[:36],
        rank=min(_LARGEST_RANK, whole_number(facts.get("rank")) or 0),
        modified_ms=whole_number(facts.get("modified")) or 0,
        section=production.sections.filter(pk=whole_number(facts.get("section")) or 0).first(),
    )
    upload.path.touch()
    if not upload.size_bytes:
        _taken_in(upload)
    location = request.build_absolute_uri(reverse("recordings:upload", args=[upload.pk]))
    return _answer(201, {"Location": location, "Upload-Expires": _expires(upload)})


@_in_words
def upload(request, pk) -> HttpResponse:
    """HEAD tells how much has arrived, PATCH brings more, DELETE gives up, GET tells what became of it."""
    upload = owned(request, Upload.objects, pk=pk)
    if request.method == "GET":
        return _outcome(upload)
    if wrong := _wrong_version(request):
        return wrong
    if request.method == "HEAD":
        return _answer(200, {"Upload-Offset": upload.offset, "Upload-Length": upload.size_bytes})
    if request.method == "PATCH":
        return _more(request, upload)
    if request.method == "DELETE":
        return _given_up(upload)
    return _answer(405)


def _given_up(upload: Upload) -> HttpResponse:
    if upload.state == Upload.State.HERE:
        return _answer(204)
    with suppress(FileNotFoundError), upload.path.open("rb") as file:
        # A part that is arriving just now is given up with the rest; what is being taken in is not.
        is_held = not locks.lock(file, locks.LOCK_EX | locks.LOCK_NB)
        if is_held and upload.state == Upload.State.FINISHING:
            return _answer(423, said=Said("upload-being-taken-just-now"))
        upload.delete()
        return _answer(204)
    upload.delete()
    return _answer(204)


def _outcome(upload: Upload) -> HttpResponse:
    if upload.is_open and upload.offset == upload.size_bytes:
        # Whole, but the server was stopped before it had taken the file in, or could not.
        if wrong := _taken_in(upload):
            return JsonResponse({"state": Upload.State.FINISHING, "said": wrong.content.decode(), "recording": None})
        upload.refresh_from_db()
    return JsonResponse({"state": upload.state, "said": words.said(upload.said), "recording": upload.recording_id})


def _more(request, upload: Upload) -> HttpResponse:
    if request.content_type != _BODY_TYPE:
        return _answer(415, said=f"The body must be {_BODY_TYPE}.")
    offset = request.headers.get("Upload-Offset", "")
    if not upload.is_open or offset != str(upload.offset):
        return _answer(409, {"Upload-Offset": upload.offset}, said=_NOT_THERE)
    missing = upload.size_bytes - upload.offset
    if (whole_number(request.headers.get("Content-Length")) or 0) > missing:
        return _answer(400, said=Said("part-longer-than-what-announced"))
    if missing > left_bytes():
        return _answer(507, said=storage.DISK_FULL)
    upload.path.touch()
    with upload.path.open("r+b") as file:
        if not locks.lock(file, locks.LOCK_EX | locks.LOCK_NB):
            return _answer(423, said=Said("another-part-upload-arriving-just"))
        # Another part may have come between the two looks.
        upload.refresh_from_db(fields=["state", "flushed_bytes"])
        if not upload.is_open or offset != str(upload.offset):
            return _answer(409, {"Upload-Offset": upload.offset}, said=_NOT_THERE)
        # Hashed on its way in; what came in several parts is hashed when it is whole.
        digest = hashlib.sha256() if offset == "0" else None
        broken: OSError | None = None
        file.truncate(int(offset))
        file.seek(int(offset))
        try:
            for size in _received(request, file, missing, digest):
                upload.set_flushed(int(offset) + size)
        except OSError as error:
            broken = error
    if broken and storage.is_full(broken):
        return _answer(507, {"Upload-Offset": upload.offset}, said=storage.DISK_FULL)
    if broken:
        # What has arrived stays, and the next part goes on from there.
        return _answer(400, said=Said("connection-broke-off"))
    if upload.flushed_bytes == upload.size_bytes:
        sha256 = digest.hexdigest() if digest else ""
        if wrong := _taken_in(upload, sha256=sha256):
            return wrong
    return _answer(204, {"Upload-Offset": upload.flushed_bytes, "Upload-Expires": _expires(upload)})


def _received(request, file, missing: int, digest) -> Iterator[int]:
    """Write the body as it comes and put it into the digest, never more than is missing. Yields how many bytes are on
    the disk, now and then and at the end, also where the connection breaks off.
    """
    arrived, flushed = 0, 0
    try:
        while arrived < missing and (chunk := request.read(min(_CHUNK_BYTES, missing - arrived))):
            file.write(chunk)
            if digest:
                digest.update(chunk)
            arrived += len(chunk)
            if arrived - flushed >= _FLUSHED_EVERY_BYTES:
                _flush(file)
                yield (flushed := arrived)
    except OSError:
        _flush(file)
        yield arrived
        raise
    _flush(file)
    yield arrived


def _flush(file) -> None:
    file.flush()
    os.fsync(file.fileno())


def _taken_in(upload: Upload, *, sha256: str = "") -> HttpResponse | None:
    """Take in what is whole; the answer that says why that cannot be done now, if so."""
    try:
        take_in_upload(upload, sha256=sha256)
    except OSError as error:
        logger.exception("Taking in upload %s", upload.pk)
        full = storage.is_full(error)
        return _answer(507 if full else 503, said=storage.DISK_FULL if full else storage.said_of(error))
    return None


def _listed(upload: Upload) -> dict:
    return {
        "address": reverse("recordings:upload", args=[upload.pk]),
        "name": upload.name,
        "size": upload.size_bytes,
        "modified": upload.modified_ms,
    }


def _metadata(header: str) -> dict[str, str]:
    """Pairs of a key and a base64 value, with commas between. Raises ValueError."""
    facts = {}
    for pair in filter(None, (part.strip() for part in header.split(","))):
        key, _, value = pair.partition(" ")
        try:
            facts[key] = base64.b64decode(value, validate=True).decode("utf-8")
        except (binascii.Error, UnicodeDecodeError) as error:
            raise ValueError(key) from error
    return facts


def _wrong_version(request) -> HttpResponse | None:
    if request.headers.get("Tus-Resumable") == VERSION:
        return None
    return _answer(412, {"Tus-Version": VERSION})


def _expires(upload: Upload) -> str:
    return http_date((upload.touched_at + timedelta(days=settings.KEEP_UPLOADS_DAYS)).timestamp())


def _answer(status: int, headers: dict | None = None, *, said: str = "") -> HttpResponse:
    response = HttpResponse(words.said(said), status=status, content_type="text/plain; charset=utf-8")
    for name, value in ({"Tus-Resumable": VERSION, "Cache-Control": "no-store"} | (headers or {})).items():
        response[name] = str(value)
    return response
