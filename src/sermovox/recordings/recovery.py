"""What looks after uploads, measuring and the bin of recordings."""

from contextlib import suppress
from pathlib import Path

from django.conf import settings

from mastering.errors import MasteringError
from sermovox.recordings.intake import take_in_upload
from sermovox.recordings.models import Recording, Upload, forget_unheld
from sermovox.recordings.tasks import measure_recording, queue_measuring
from sermovox.work import queue
from sermovox.work.recovery import clears_away, forgotten, looks_after


@looks_after
def uploads() -> None:
    """Take in what has arrived whole, and delete what nobody goes on with."""
    for upload in Upload.objects.outdated():
        upload.delete()
    for upload in Upload.objects.unfinished().filter(production__deleted_at=None):
        if upload.offset == upload.size_bytes:
            with suppress(MasteringError):
                take_in_upload(upload)


@looks_after
def measuring() -> None:
    """Queue measuring whose time has come and that is in no queue."""
    in_queue = queue.first_arguments(measure_recording)
    for recording in Recording.objects.waiting().select_related("production").exclude(pk__in=in_queue).order_by("pk"):
        queue_measuring(recording)


@looks_after
def bin_of_recordings() -> None:
    """Empty it of what has lain there for as long as it keeps things."""
    for recording in Recording.with_deleted.outdated():
        recording.empty_bin()


@clears_away
def unnamed_recordings() -> None:
    """Stored bytes that no recording has."""
    held = set(Recording.with_deleted.holding().values_list("sha256", flat=True))
    for path in forgotten((Path(settings.DATA_DIR) / "recordings").glob("*/*")):
        if path.name not in held:
            if "." in path.name:
                path.unlink(missing_ok=True)
            else:
                forget_unheld(path.name)


@clears_away
def unnamed_arrivals() -> None:
    """Bytes of uploads that are no more."""
    arriving = {pk.hex for pk in Upload.objects.values_list("pk", flat=True)}
    for path in forgotten((Path(settings.DATA_DIR) / "incoming").glob("*")):
        if path.name not in arriving:
            path.unlink(missing_ok=True)
