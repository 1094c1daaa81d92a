"""The files of a delivery, sent to where its outlet receives."""

import argparse
import time

from django.utils import timezone

import sermovox.running.ready  # noqa: F401
from mastering.errors import MasteringError
from mastering.said import Said, word
from sermovox.deliveries.bundles import of_run
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.dispatch.models import Dispatch
from sermovox.dispatch.sending import begin
from sermovox.dispatch.tasks import send_dispatch
from sermovox.keeping import copied
from sermovox.outlets.models import outlets_of
from sermovox.running.speaking import say, spoken
from sermovox.terminal.database import migrated
from sermovox.ui.templatetags.figures import size
from sermovox.work.queue import enqueue_once
from sermovox.work.run import is_running

_LOOKS_EVERY_S = 0.2


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("delivery", type=int, metavar="DELIVERY", help=Said("number-address-page"))
    command.add_argument("--to", metavar="OUTLET", help=Said("another-outlet-than-one-made"))
    command.add_argument("--failing", action="store_true", help=Said("send-files-fail-too-written"))
    command.add_argument("--again", action="store_true", help=Said("replace-files-these-names-there"))


def run(options) -> int:
    migrated()
    delivery = Delivery.objects.select_related("production__owner").filter(pk=options.delivery).first()
    if delivery is None:
        raise MasteringError(Said("there-no-delivery-number-stands", delivery=options.delivery))
    key = options.to or delivery.outlet_key
    outlet = outlets_of(delivery.production.owner).get(key)
    if outlet is None:
        raise MasteringError(Said("there-no-outlet-sermovox-outlets", key=key))
    bundle = of_run(delivery)
    chosen = [file.pk for file in bundle.files if options.failing or file.state != FinishedFile.State.FAILS]
    if copied.is_held():
        raise MasteringError(copied.SENDS_NOTHING)
    dispatch = begin(bundle, outlet, chosen, delivery=delivery, failing=options.failing, replacing=options.again)
    parts = list(dispatch.parts.all())
    whole = size(sum(part.size_bytes for part in parts))
    say(
        Said("sending-files-to", count=len(parts), whole=whole, title=outlet.title, where=dispatch.way.where),
        flush=True,
    )
    _sent(dispatch)
    for part in dispatch.parts.all():
        proof = f": {spoken(part.proof)}" if part.proof else ""
        print(f"{spoken(part.state):9} {part.name}{proof}")
    if dispatch.state not in Dispatch.GONE:
        raise MasteringError(dispatch.said or Said("it-was-meanwhile", state=word(dispatch.state)))
    return 0


def _sent(dispatch: Dispatch) -> None:
    """Send it here, or wait until a worker has, where Sermovox runs: that one knows where it is reached from."""
    said, here = "", not is_running()
    if not here:
        enqueue_once(send_dispatch, dispatch.pk, sending=True)
    while dispatch.is_under_way:
        if dispatch.said != said:
            said = dispatch.said
            say(Said("tried-again", said=said), flush=True)
        if here and (dispatch.next_at is None or dispatch.next_at <= timezone.now()):
            send_dispatch.func(dispatch.pk)
        else:
            time.sleep(_LOOKS_EVERY_S)
        dispatch.refresh_from_db()
        if dispatch.state == Dispatch.State.SENDING:
            time.sleep(_LOOKS_EVERY_S)
