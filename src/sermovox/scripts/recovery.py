"""What looks after listening for words."""

from sermovox.scripts.models import Hearing
from sermovox.scripts.tasks import hear_recording, queue_hearing
from sermovox.work import queue
from sermovox.work.recovery import looks_after


@looks_after
def hearings() -> None:
    """Queue what waits and is in no queue."""
    in_queue = queue.first_arguments(hear_recording)
    for hearing in Hearing.objects.under_way().exclude(pk__in=in_queue).select_related("recording"):
        queue_hearing(hearing)
