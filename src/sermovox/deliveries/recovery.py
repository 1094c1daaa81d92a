"""What looks after files in the making, and the bin of deliveries and finished files."""

from pathlib import Path

from django.conf import settings
from django.db import transaction

from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.runs import queue_files
from sermovox.deliveries.tasks import make_file, make_files
from sermovox.keeping import storage
from sermovox.work import queue
from sermovox.work.recovery import clears_away, forgotten, looks_after, puts_back


@puts_back
def without_worker() -> None:
    """Files that no worker is at wait again."""
    with transaction.atomic():
        in_work = queue.first_arguments(make_file, make_files, running=True)
        making = FinishedFile.objects.filter(state=FinishedFile.State.MAKING).exclude(pk__in=in_work)
        making.update(state=FinishedFile.State.WAITING, share=0.0)


@looks_after
def files() -> None:
    """Queue files that wait and are in no queue."""
    without_worker()
    with transaction.atomic():
        in_queue = queue.first_arguments(make_file, make_files)
        lost = list(FinishedFile.objects.waiting().exclude(pk__in=in_queue).values_list("pk", flat=True))
        cancelled = FinishedFile.objects.waiting().filter(delivery__cancelled_at__isnull=False)
        cancelled.update(state=FinishedFile.State.CANCELLED)
        queue_files(FinishedFile.objects.waiting().filter(pk__in=lost))


@looks_after
def bins() -> None:
    """Empty them of what has lain there for as long as they keep things."""
    for rows in (FinishedFile.objects, Delivery.with_deleted):
        for row in rows.outdated():
            row.empty_bin()


@clears_away
def unnamed_folders() -> None:
    """Folders and files of deliveries that are no more, or never came to be."""
    # Folders first: whatever comes between the looks has its row in the second.
    top = Path(settings.DATA_DIR) / "deliveries"
    of_deliveries, of_files = list(forgotten(top.glob("*"))), list(forgotten(top.glob("*/*")))
    deliveries = {str(pk) for pk in Delivery.with_deleted.values_list("pk", flat=True)}
    for folder in of_deliveries:
        if folder.name not in deliveries:
            storage.forget_folder(folder)
    under_way = {storage.finished(*keys) for keys in FinishedFile.objects.under_way().values_list("delivery_id", "pk")}
    named = FinishedFile.objects.kept().values_list("delivery_id", "pk", "stored_as")
    kept = {storage.finished(delivery, pk): name for delivery, pk, name in named}
    for folder in of_files:
        if folder in kept:
            for path in forgotten(folder.iterdir()):
                if path.name != kept[folder] and not path.name.startswith("waveform"):
                    storage.forget_file(path)
        elif folder not in under_way:
            storage.forget_folder(folder)
