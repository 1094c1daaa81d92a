"""Files from anywhere held against an outlet, in the background."""

import logging

from django_tasks import task

from mastering.errors import Cancelled, MasteringError
from mastering.meters.measurement import measure
from mastering.outlets.checksheet import check
from mastering.outlets.rulesheets import parse
from mastering.said import Said
from mastering.tagging.carried import read_carried
from sermovox.keeping.storage import said_of
from sermovox.outlets.models import FileCheck
from sermovox.work.progress import telling

logger = logging.getLogger(__name__)
_PROGRESS_EVERY_S = 0.5
_BEFORE_MAKING = 10


@task(priority=_BEFORE_MAKING)
def check_file(key: int) -> None:
    """Decode, measure and read a file and hold it against its outlet; somebody waits for it."""
    found = FileCheck.objects.under_way().filter(pk=key).first()
    if found is None or not found.start():
        return
    progress = telling(found.tell_progress, every_s=_PROGRESS_EVERY_S)
    try:
        measured = measure(found.path, progress=progress)
        sheet = check(
            measured,
            parse(found.toml),
            content_kind=found.content_kind,
            carried=read_carried(found.path),
            name=found.name,
        )
        found.settle(FileCheck.State.CHECKED, sheet=sheet, figures=measured.figures())
    except Cancelled:
        found.path.unlink(missing_ok=True)
    except MasteringError as error:
        found.settle(FileCheck.State.UNREADABLE, said=str(error))
    except OSError as error:
        found.settle(FileCheck.State.UNREADABLE, said=said_of(error))
    except Exception:
        logger.exception("Checking file %s", key)
        found.settle(FileCheck.State.UNREADABLE, said=Said("sermovox-stumbled-over-file-check"))
