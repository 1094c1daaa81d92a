"""What looks after everything that waits: puts back what was broken off, tries again, empties bins, clears away.

Called at the start, every few seconds by the supervisor, and where a page waits for one thing, for that.
"""

import logging
import time
from collections.abc import Callable, Collection, Iterable, Iterator
from contextlib import suppress
from pathlib import Path

from django.conf import settings
from django.db import DatabaseError, close_old_connections, transaction

from mastering.errors import MasteringError
from sermovox import queue, room, storage
from sermovox.deliveries.models import Delivery, FinishedFile, queue_files
from sermovox.deliveries.tasks import make_file, make_files
from sermovox.outlets.models import FileCheck
from sermovox.outlets.tasks import check_file
from sermovox.productions.models import Production
from sermovox.recordings.intake import take_in_upload
from sermovox.recordings.models import Recording, Upload, forget_unheld
from sermovox.recordings.tasks import measure_recording, queue_measuring

logger = logging.getLogger(__name__)
_FORGOTTEN_S = 24 * 3600
"""What is younger may belong to something that goes on just now."""


def requeue_tasks(living: Collection[str] = ()) -> int:
    """Make tasks ready again that no living worker is at; what they were making waits again. Returns how many."""
    count = queue.put_back(living)
    if count:
        _files_without_worker()
    return count


def look_after() -> None:
    """See to everything that could wait for ever. Whatever cannot be done now is done the next time."""
    for look in (_uploads, _measuring, _files, _checks, _bins, room.keep_reserve, queue.forget_finished):
        seen_to(look)


def clear_away() -> None:
    """Delete what no row names: left behind by a kill, or kept while a copy of everything was made."""
    for look in (_unnamed_recordings, _unnamed_folders, _unnamed_arrivals, _half_written):
        seen_to(look)


def seen_to(look: Callable[[], object]) -> None:
    """Do one of these. Whatever it stumbles over only puts it off: the others have to be looked after all the same."""
    close_old_connections()
    try:
        look()
    except (DatabaseError, OSError) as error:
        if storage.is_full(error):
            room.let_go()
        logger.warning("Looking after what waits: %s", error)
    except Exception:
        logger.exception("Looking after what waits")


def _uploads() -> None:
    for upload in Upload.objects.outdated():
        upload.delete()
    for upload in Upload.objects.unfinished().filter(production__deleted_at=None):
        if upload.offset == upload.size_bytes:
            with suppress(MasteringError):
                take_in_upload(upload)


def _measuring() -> None:
    in_queue = queue.first_arguments(measure_recording)
    for recording in Recording.objects.waiting().select_related("production").exclude(pk__in=in_queue).order_by("pk"):
        queue_measuring(recording)


def _files_without_worker() -> None:
    with transaction.atomic():
        in_work = queue.first_arguments(make_file, make_files, running=True)
        making = FinishedFile.objects.filter(state=FinishedFile.State.MAKING).exclude(pk__in=in_work)
        making.update(state=FinishedFile.State.WAITING, share=0.0)


def _files() -> None:
    _files_without_worker()
    with transaction.atomic():
        in_queue = queue.first_arguments(make_file, make_files)
        lost = list(FinishedFile.objects.waiting().exclude(pk__in=in_queue).values_list("pk", flat=True))
        cancelled = FinishedFile.objects.waiting().filter(delivery__cancelled_at__isnull=False)
        cancelled.update(state=FinishedFile.State.CANCELLED)
        queue_files(FinishedFile.objects.waiting().filter(pk__in=lost))


def _checks() -> None:
    in_queue = queue.first_arguments(check_file)
    for check in FileCheck.objects.under_way().exclude(pk__in=in_queue):
        check.go_on()


def _bins() -> None:
    for file in FinishedFile.objects.outdated():
        file.empty_bin()
    for rows in (Recording.with_deleted, Delivery.with_deleted, Production.with_deleted):
        for row in rows.outdated():
            row.empty_bin()


def _unnamed_recordings() -> None:
    folder = Path(settings.DATA_DIR) / "recordings"
    held = set(Recording.with_deleted.holding().values_list("sha256", flat=True))
    for path in _forgotten(folder.glob("*/*")):
        if path.name not in held:
            if "." in path.name:
                path.unlink(missing_ok=True)
            else:
                forget_unheld(path.name)


def _unnamed_folders() -> None:
    # Folders first: whatever comes between the looks has its row in the second.
    top = Path(settings.DATA_DIR) / "deliveries"
    of_deliveries, of_files = list(_forgotten(top.glob("*"))), list(_forgotten(top.glob("*/*")))
    deliveries = {str(pk) for pk in Delivery.with_deleted.values_list("pk", flat=True)}
    for folder in of_deliveries:
        if folder.name not in deliveries:
            storage.forget_folder(folder)
    under_way = {str(pk) for pk in FinishedFile.objects.under_way().values_list("pk", flat=True)}
    kept = {str(pk): name for pk, name in FinishedFile.objects.kept().values_list("pk", "stored_as")}
    for folder in of_files:
        if folder.name in kept:
            for path in _forgotten(folder.iterdir()):
                if path.name != kept[folder.name] and not path.name.startswith("waveform"):
                    storage.forget_file(path)
        elif folder.name not in under_way:
            storage.forget_folder(folder)


def _unnamed_arrivals() -> None:
    arriving = {pk.hex for pk in Upload.objects.values_list("pk", flat=True)}
    checking = {str(pk) for pk in FileCheck.objects.values_list("pk", flat=True)}
    data = Path(settings.DATA_DIR)
    for path in _forgotten([*(data / "incoming").glob("*"), *(data / "checking").glob("*")]):
        if path.name not in arriving | checking:
            path.unlink(missing_ok=True)


def _half_written() -> None:
    for path in _forgotten((Path(settings.DATA_DIR) / "cache").rglob("*")):
        if storage.is_half_written(path):
            path.unlink(missing_ok=True)


def _forgotten(paths: Iterable[Path]) -> Iterator[Path]:
    """Those that nobody has touched for a day."""
    for path in paths:
        with suppress(FileNotFoundError):
            if time.time() - path.stat().st_mtime > _FORGOTTEN_S:
                yield path
