"""What looks after dispatches that wait, and after what lies here for none."""

from contextlib import suppress
from pathlib import Path

from django.conf import settings
from django.db import transaction

from sermovox.deliveries.bundles import that_stands
from sermovox.dispatch.models import Dispatch, Part, Wish
from sermovox.dispatch.sending import begin
from sermovox.dispatch.tasks import send_dispatch
from sermovox.dispatch.ways.carrier import NotSent
from sermovox.keeping import storage
from sermovox.outlets.models import outlets_of
from sermovox.work import queue
from sermovox.work.recovery import clears_away, forgotten, looks_after, puts_back


@puts_back
def without_worker() -> None:
    """Dispatches that no worker is at wait again; what is over there already is found when they are taken up."""
    with transaction.atomic():
        in_work = queue.first_arguments(send_dispatch, running=True)
        sending = Dispatch.objects.filter(state=Dispatch.State.SENDING).exclude(pk__in=in_work)
        sending.update(state=Dispatch.State.WAITING)


@looks_after
def wishes() -> None:
    """Begin to send what is to go by itself once it passes."""
    for delivery in Wish.fulfillable():
        outlet = outlets_of(delivery.production.owner).get(delivery.outlet_key)
        if outlet is None or outlet.receives is None:
            continue
        with suppress(NotSent):
            bundle = that_stands(delivery)
            # What took the place of a file may have gone with its own run.
            begun = Part.objects.filter(dispatch__outlet_key=outlet.key)
            gone = set(begun.exclude(dispatch__state=Dispatch.State.CANCELLED).values_list("file", "sha256"))
            chosen = [file.pk for file in bundle.files if (file.pk, file.sha256) not in gone]
            begin(bundle, outlet, chosen, delivery=delivery)


@looks_after
def dispatches() -> None:
    """Queue those that are due and in no queue."""
    without_worker()
    for pk in Dispatch.objects.due().order_by("pk").values_list("pk", flat=True):
        queue.enqueue_once(send_dispatch, pk, sending=True)


@clears_away
def folders() -> None:
    """What was to go along with dispatches that are over."""
    not_over = Dispatch.objects.exclude(state__in=Dispatch.OVER)
    wanted = {str(pk) for pk in not_over.values_list("pk", flat=True)}
    for folder in forgotten((Path(settings.DATA_DIR) / "dispatch").glob("*")):
        if folder.name not in wanted:
            storage.forget_folder(folder)
