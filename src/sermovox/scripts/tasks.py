"""Listening for the words of a text, in the background."""

import logging

from django_tasks import task

from mastering.errors import Cancelled, MasteringError, UnreadableRecording
from mastering.said import Said
from mastering.words.hearing import hear
from sermovox.keeping.storage import said_of
from sermovox.recordings.models import Recording
from sermovox.recordings.tasks import draw_recording
from sermovox.scripts.models import Hearing
from sermovox.work.progress import telling
from sermovox.work.queue import enqueue, enqueue_once

logger = logging.getLogger(__name__)
_PROGRESS_EVERY_S = 0.5
_BEFORE_MAKING = 10
_SHORT_S = 600.0
"""What is no longer is heard in some seconds."""
_STUMBLED = Said("sermovox-stumbled-over-text-nothing")


def queue_hearing(hearing: Hearing) -> None:
    """Have it heard, unless that is in the queue already."""
    enqueue_once(hear_recording, hearing.pk, short=_is_short(hearing.recording))


@task(priority=_BEFORE_MAKING)
def hear_recording(key: int) -> None:
    """Find the words of its text in a recording; somebody looks at its page."""
    hearing = _under_way(key)
    if hearing is None or not hearing.start():
        return
    progress = telling(hearing.tell_progress, every_s=_PROGRESS_EVERY_S)
    recording = hearing.recording
    try:
        measured = recording.kept_measurement()
        if measured is None:
            # Freed from the cache, or never in this one, as after a restore.
            draw_recording.call(recording.pk)
            measured = recording.kept_measurement()
        if measured is None:
            raise UnreadableRecording(Said("recording-cannot-measured-anew-look"))
        envelope = measured.levels.envelope
        found = hear(
            recording.path,
            hearing.lines,
            language=hearing.language,
            envelope=envelope,
            progress=progress,
            so_far=hearing.keep_so_far,
        )
        hearing.keep(found)
    except Cancelled:
        logger.info("Recording %s is listened to no further", recording.pk)
    except MasteringError as error:
        hearing.settle(Hearing.State.REFUSED, str(error))
    except OSError as error:
        hearing.settle(Hearing.State.REFUSED, said_of(error))
    except Exception:
        logger.exception("Listening for words in recording %s", recording.pk)
        hearing.settle(Hearing.State.REFUSED, _STUMBLED)
    # Another text may have taken its place meanwhile, and could not be queued while this was at work.
    if another := _under_way(key):
        enqueue(hear_recording, key, short=_is_short(another.recording))


def _under_way(key: int) -> Hearing | None:
    return Hearing.objects.under_way().filter(pk=key).select_related("recording").first()


def _is_short(recording: Recording) -> bool:
    return recording.figures.get("duration_s", 0.0) <= _SHORT_S
