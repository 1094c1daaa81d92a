"""Taking in a file: its bytes, its name, and whether it is a recording at all."""

import hashlib
import itertools
import uuid
from dataclasses import dataclass
from functools import partial
from pathlib import Path, PurePosixPath, PureWindowsPath
from typing import Any

from django.conf import settings
from django.core.files import locks
from django.db import transaction

from mastering.audio.reader import Reader
from mastering.errors import MasteringError
from mastering.naming.described import described
from mastering.said import Said
from sermovox.keeping import storage
from sermovox.keeping.limits import refuse_too_long
from sermovox.keeping.room import has_room
from sermovox.productions.models import Production, Section
from sermovox.productions.order import assign, handed_on, place_among, refresh_lengths
from sermovox.recordings.models import Recording, Upload
from sermovox.recordings.tasks import queue_measuring

_LONGEST_NAME = 255
_CHUNK_BYTES = 1 << 20


class Refused(MasteringError):
    """This upload cannot be taken in."""


@dataclass(frozen=True)
class Intake:
    """What became of a file: the recording, and whether the production had it before."""

    recording: Recording
    known: bool


def take_in(production: Production, source: Path, *, name: str = "") -> Intake:
    """Copy a file of this machine into a production and queue it for measuring.

    It becomes a section at the end of the running order, unless sections there wait for recordings. Raises Refused
    or UnreadableRecording; nothing is kept then.
    """
    arriving = storage.incoming() / uuid.uuid4().hex
    try:
        sha256 = _copied(source, arriving)
        _opened(arriving)
        with storage.held(sha256):
            storage.keep(arriving, sha256)
            return _kept(production, sha256, name=shown_name(name or source.name), size_bytes=arriving.stat().st_size)
    except OSError as error:
        raise Refused(storage.said_of(error)) from error
    finally:
        arriving.unlink(missing_ok=True)


def take_in_upload(upload: Upload, *, sha256: str = "") -> None:
    """Take in an upload that has arrived whole, and note with it what became of it. Its hash, where it is known.

    Whoever holds its file is at it; the system lets go of that when a server dies, so that whoever looks next goes on.
    Raises OSError where the disk will not have it; what has arrived stays.
    """
    try:
        file = upload.path.open("rb")
    except FileNotFoundError:
        return
    with file:
        if not locks.lock(file, locks.LOCK_EX | locks.LOCK_NB):
            return
        under_way = Upload.objects.unfinished().filter(pk=upload.pk)
        if not under_way.update(state=Upload.State.FINISHING):
            return
        try:
            _opened(upload.path)
        except MasteringError as error:
            upload.settle(Upload.State.REFUSED, str(error))
            return
        sha256 = sha256 or hashlib.file_digest(file, "sha256").hexdigest()
        with storage.held(sha256):
            storage.keep(upload.path, sha256)
            facts: dict[str, Any] = {
                "name": upload.name,
                "size_bytes": upload.size_bytes,
                "batch": upload.batch,
                "rank": upload.rank,
                "section": upload.section,
            }
            with transaction.atomic():
                taken = _kept(upload.production, sha256, **facts)
                same = Said("same-file-which-here-already", name=taken.recording.name)
                upload.settle(Upload.State.HERE, same if taken.known else "", taken.recording)


def use(recording: Recording) -> Section:
    """Make a section of a recording, where its name belongs among those it came in with, else at the end of the running
    order. What its name does not say of it follows from the section before.
    """
    production = recording.production
    read = described(recording.name, production=production.title)
    facts = _following(production) | ({"role": read.role, "number": None} if read.role else {})
    if read.number is not None:
        facts["number"] = read.number
    section = production.add_section(recording, title=read.title, part=read.part, **facts)
    place_among(production, section, recording.batch, recording.rank, by_role=read.place is None)
    refresh_lengths(production, [section])
    return section


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


def _copied(source: Path, arriving: Path) -> str:
    """Copy a file; returns its SHA-256."""
    digest = hashlib.sha256()
    refuse_too_large(source.stat().st_size)
    if not has_room(source.stat().st_size):
        raise Refused(storage.DISK_FULL)
    with source.open("rb") as theirs, arriving.open("xb") as ours:
        while chunk := theirs.read(_CHUNK_BYTES):
            digest.update(chunk)
            ours.write(chunk)
    return digest.hexdigest()


def _opened(path: Path) -> None:
    """Raise UnreadableRecording for what is no recording, Refused for one that is longer than is measured."""
    with Reader(path) as reader:
        refuse_too_long(reader.promised_s or 0.0, reader.channels, reader.sample_rate_hz)


def refuse_too_large(size_bytes: int) -> None:
    """Raise Refused for more than the server takes."""
    if size_bytes > settings.MAX_UPLOAD_BYTES:
        raise Refused(Said("file-larger-than-gib-most", max_upload_bytes=settings.MAX_UPLOAD_BYTES / 2**30))


def _kept(
    production: Production,
    sha256: str,
    *,
    name: str,
    size_bytes: int,
    batch: str = "",
    rank: int = 0,
    section: Section | None = None,
) -> Intake:
    """The row of bytes that are kept, and its place: the section it is meant for, or one found for it. The caller holds
    their hash.
    """
    with transaction.atomic():
        facts: dict[str, Any] = {"name": name, "size_bytes": size_bytes, "batch": batch, "rank": rank}
        recording = Recording.with_deleted.filter(production=production, sha256=sha256).first()
        if recording and recording.measuring and recording.waits_for:
            # The same bytes once more may be just what it waited for.
            recording.try_now()
            transaction.on_commit(partial(queue_measuring, recording))
        if recording and (recording.ready or recording.measuring):
            return Intake(recording, known=not _found_a_place(recording, section))
        if recording:
            recording.bring_back(**facts)
        else:
            recording = production.recordings.create(sha256=sha256, **facts)
        _found_a_place(recording, section)
        transaction.on_commit(lambda: queue_measuring(recording))
    return Intake(recording, known=False)


def _found_a_place(recording: Recording, section: Section | None) -> bool:
    """Give a recording to the section it is meant for; else make a section of one that has none, unless sections wait
    to be paired with recordings.
    """
    if section and not section.removed:
        if section.recording_id == recording.pk and not section.is_cut:
            return False
        words = Said("give-label", title=section.title, name=recording.name)
        assign(recording.production, recording.production.owner, {section.pk: recording.pk}, words)
        return True
    if not recording.unused or recording.production.sections.waiting().exists():
        return False
    use(recording)
    return True


def _following(production: Production) -> dict[str, Any]:
    """The facts of a section that comes next: of what comes in runs, what the last one is, and its number and one."""
    last = production.last_of_run
    if last is None:
        return {"role": Section.Role.CHAPTER}
    number = last.number
    if number is not None:
        taken = set(production.sections.filter(role=last.role).values_list("number", flat=True))
        # No episode gets the number of another, however they stand.
        number = next(each for each in itertools.count(number + 1) if each not in taken)
    return {"role": last.role, "number": number} | handed_on(last)
