"""Looking for retakes, in the background."""

import json
import logging
from dataclasses import asdict
from typing import Any

from django_tasks import task

from mastering.editing.retakes import find_retakes
from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.cutting.models import pauses_of
from sermovox.keeping import caches, storage
from sermovox.recordings.models import Recording

logger = logging.getLogger(__name__)


def retakes_path(recording: Recording):
    """Where the retakes that were found in a recording lie."""
    return storage.cached(recording.sha256, "retakes.json")


@task()
def look_for_retakes(recording_id: int) -> None:
    """Find the lines of a recording that were spoken more than once."""
    recording = Recording.objects.filter(pk=recording_id).first()
    if recording is None:
        return
    found: dict[str, Any]
    try:
        found = {"retakes": [asdict(retake) for retake in find_retakes(recording.path, pauses_of(recording))]}
    except MasteringError as error:
        found = {"said": str(error)}
    except OSError:
        # No fault of the recording: looked for once more when its page asks.
        logger.exception("Looking for retakes in recording %s", recording_id)
        return
    except Exception:
        logger.exception("Looking for retakes in recording %s", recording_id)
        found = {"said": Said("sermovox-stumbled-over-recording-nothing")}
    caches.keep(retakes_path(recording), json.dumps(found).encode())
