"""The files of a delivery, sent to where its outlet receives."""

import argparse
import time

from django.utils import timezone

import sermovox.running.ready  # noqa: F401
from mastering.errors import MasteringError
from sermovox.deliveries.bundles import of_run
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.dispatch.models import Dispatch
from sermovox.dispatch.sending import begin
from sermovox.dispatch.tasks import send_dispatch
from sermovox.keeping import copied
from sermovox.outlets.models import outlets_of
from sermovox.terminal.database import migrated
from sermovox.ui.templatetags.figures import size
from sermovox.work.queue import enqueue_once
from sermovox.work.run import is_running

_LOOKS_EVERY_S = 0.2


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("delivery", type=int, metavar="DELIVERY", help="its number, as in the address of its page")
    command.add_argument("--to", metavar="OUTLET", help="to another outlet than the one it was made for")
    command.add_argument("--failing", action="store_true", help="send files that fail, too; that is written down")
    command.add_argument("--again", action="store_true", help="replace files of these names that are there already")


def run(options) -> int:
    migrated()
    delivery = Delivery.objects.select_related("production__owner").filter(pk=options.delivery).first()
    if delivery is None:
        raise MasteringError(f"There is no delivery {options.delivery}. Its number stands in the address of its page.")
    key = options.to or delivery.outlet_key
    outlet = outlets_of(delivery.production.owner).get(key)
    if outlet is None:
        raise MasteringError(f"There is no outlet “{key}”. `sermovox outlets` lists them.")
    bundle = of_run(delivery)
    chosen = [file.pk for file in bundle.files if options.failing or file.state != FinishedFile.State.FAILS]
    if copied.is_held():
        raise MasteringError(copied.SENDS_NOTHING)
    dispatch = begin(bundle, outlet, chosen, delivery=delivery, failing=options.failing, replacing=options.again)
    parts = list(dispatch.parts.all())
    whole = size(sum(part.size_bytes for part in parts))
    print(f"Sending {len(parts)} files, {whole}, to {outlet.title} ({dispatch.way.where}).", flush=True)
    _sent(dispatch)
    for part in dispatch.parts.all():
        print(f"{part.state:9} {part.name}{f': {part.proof}' if part.proof else ''}")
    if dispatch.state not in Dispatch.GONE:
        raise MasteringError(dispatch.said or f"It was {dispatch.state} meanwhile.")
    return 0


def _sent(dispatch: Dispatch) -> None:
    """Send it here, or wait until a worker has, where Sermovox runs: that one knows where it is reached from."""
    said, here = "", not is_running()
    if not here:
        enqueue_once(send_dispatch, dispatch.pk, sending=True)
    while dispatch.is_under_way:
        if dispatch.said != said:
            said = dispatch.said
            print(f"{said} It is tried again.", flush=True)
        if here and (dispatch.next_at is None or dispatch.next_at <= timezone.now()):
            send_dispatch.func(dispatch.pk)
        else:
            time.sleep(_LOOKS_EVERY_S)
        dispatch.refresh_from_db()
        if dispatch.state == Dispatch.State.SENDING:
            time.sleep(_LOOKS_EVERY_S)
