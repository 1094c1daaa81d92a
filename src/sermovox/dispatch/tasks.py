"""Sending, in the background."""

import logging

from django_tasks import task

from mastering.errors import Cancelled
from mastering.said import Said
from sermovox.dispatch.models import Dispatch
from sermovox.dispatch.sending import send, tidy
from sermovox.dispatch.ways.carrier import LineBroke, NameTaken, NotSent
from sermovox.keeping import storage

logger = logging.getLogger(__name__)


@task()
def send_dispatch(dispatch_id: int) -> None:
    """Send a dispatch that is due; what stands in the way is written down with it."""
    dispatch = Dispatch.objects.select_related("owner").filter(pk=dispatch_id).first()
    if dispatch is None or not dispatch.begin():
        return
    dispatch.refresh_from_db()
    try:
        send(dispatch)
    except Cancelled:
        return
    except LineBroke as error:
        dispatch.put_off(str(error), moved=dispatch.over_there_bytes > dispatch.started_bytes)
    except NameTaken as error:
        dispatch.settle(Dispatch.State.STUCK, str(error), name_taken=True)
    except NotSent as error:
        dispatch.settle(Dispatch.State.STUCK, str(error))
    except OSError as error:
        dispatch.settle(Dispatch.State.STUCK, storage.said_of(error))
    except Exception:
        logger.exception("Sending dispatch %s", dispatch_id)
        dispatch.settle(Dispatch.State.STUCK, Said("sermovox-stumbled-over-what-arrived"))
    else:
        dispatch.settle(dispatch.how_it_went)


@task()
def tidy_dispatch(dispatch_id: int) -> None:
    """Take away over there what a dispatch that was cancelled has begun."""
    dispatch = Dispatch.objects.select_related("owner").filter(pk=dispatch_id, state=Dispatch.State.CANCELLED).first()
    if dispatch:
        try:
            tidy(dispatch)
        except NotSent as error:
            logger.warning("What dispatch %s has begun stays over there: %s", dispatch_id, error)
