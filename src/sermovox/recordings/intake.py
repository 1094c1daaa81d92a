"""Taking in a file: its bytes, its name, and whether it is a recording at all."""

import errno
import hashlib
import uuid
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath, PureWindowsPath

from django.conf import settings
from django.db import transaction

from mastering.audio.reader import Reader
from mastering.errors import MasteringError
from sermovox import storage
from sermovox.productions.models import Production, Section
from sermovox.recordings.models import Recording, keep
from sermovox.recordings.tasks import measure_recording

_LONGEST_NAME = 255
_CHUNK_BYTES = 1 << 20


class Refused(MasteringError):
    """This upload cannot be taken in."""


@dataclass(frozen=True)
class Intake:
    """What became of a file: the recording, and whether the production had it before."""

    recording: Recording
    known: bool


def take_in(production: Production, name: str, chunks: Iterator[bytes], *, expected_bytes: int | None = None) -> Intake:
    """Store a file and queue it for measuring; add a section for it at the end of the running order.

    Raises Refused or UnreadableRecording; nothing is kept then.
    """
    name = shown_name(name)
    arriving = storage.incoming() / uuid.uuid4().hex
    try:
        sha256, size_bytes = _received(arriving, chunks, expected_bytes)
        with Reader(arriving):
            pass
        return _recorded(production, name, arriving, sha256, size_bytes)
    finally:
        arriving.unlink(missing_ok=True)


def use(recording: Recording) -> Section:
    """Make a section of a recording, at the end of the running order."""
    production = recording.production
    return production.add_section(title=section_title(recording.name), recording=recording, role=_next_role(production))


def file_chunks(path: Path) -> Iterator[bytes]:
    """The bytes of a file on this machine."""
    with path.open("rb") as file:
        while chunk := file.read(_CHUNK_BYTES):
            yield chunk


def shown_name(name: str) -> str:
    """A file's name without folders or control characters, at most 255 characters, its ending kept.

    >>> shown_name("C:\\\\takes\\\\one.wav"), shown_name("../../etc/one.wav")
    ('one.wav', 'one.wav')
    """
    last = PurePosixPath(PureWindowsPath(name).as_posix()).name
    printable = "".join(c for c in last if c.isprintable()).strip() or "recording"
    if len(printable) <= _LONGEST_NAME:
        return printable
    ending = PurePosixPath(printable).suffix[:16]
    return printable[: _LONGEST_NAME - len(ending)] + ending


def section_title(name: str) -> str:
    """A title to start from: the file's name without its ending, with underscores as spaces."""
    return PurePosixPath(name).stem.replace("_", " ").strip()[:200] or "Untitled"


def _received(arriving: Path, chunks: Iterator[bytes], expected_bytes: int | None) -> tuple[str, int]:
    digest, size_bytes = hashlib.sha256(), 0
    try:
        with arriving.open("xb") as file:
            for chunk in chunks:
                size_bytes += len(chunk)
                if size_bytes > settings.MAX_UPLOAD_BYTES:
                    raise Refused(
                        f"This file is larger than {settings.MAX_UPLOAD_BYTES / 2**30:.0f} GiB, the most this "
                        "server takes. Split it, or save it as FLAC."
                    )
                digest.update(chunk)
                file.write(chunk)
    except OSError as error:
        if error.errno == errno.ENOSPC:
            raise Refused("The server's disk is full. Free some space there, then send the file again.") from error
        raise Refused("The connection broke off. Send the file again.") from error
    if expected_bytes is not None and size_bytes != expected_bytes:
        raise Refused(f"Only {size_bytes} of {expected_bytes} bytes arrived. Send the file again.")
    return digest.hexdigest(), size_bytes


def _recorded(production: Production, name: str, arriving: Path, sha256: str, size_bytes: int) -> Intake:
    with transaction.atomic():
        earlier = production.recordings.filter(sha256=sha256).exclude(state=Recording.State.REFUSED).first()
        if earlier:
            unused = not earlier.sections.exists()
            if unused:
                use(earlier)
            return Intake(earlier, known=not unused)
        refused = production.recordings.filter(sha256=sha256)
        waiting = [section.pk for section in production.sections.filter(recording__in=refused)]
        refused.delete()
        keep(arriving, sha256)
        recording = production.recordings.create(sha256=sha256, name=name, size_bytes=size_bytes)
        if waiting:
            production.sections.filter(pk__in=waiting).update(recording=recording)
        else:
            use(recording)
        transaction.on_commit(lambda: measure_recording.enqueue(recording.pk))
    return Intake(recording, known=False)


def _next_role(production: Production) -> str:
    """What the last section is, where that comes in runs; else a chapter."""
    last = production.sections.last()
    in_runs = (Section.Role.EPISODE, Section.Role.SEGMENT, Section.Role.LINE)
    return last.role if last and last.role in in_runs else Section.Role.CHAPTER
