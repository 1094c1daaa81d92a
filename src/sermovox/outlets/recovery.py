"""What looks after files that are to be checked."""

from pathlib import Path

from django.conf import settings

from sermovox.outlets.checking import go_on
from sermovox.outlets.models import FileCheck
from sermovox.outlets.tasks import check_file
from sermovox.work import queue
from sermovox.work.recovery import clears_away, forgotten, looks_after


@looks_after
def checks() -> None:
    """Queue checks that are in no queue."""
    in_queue = queue.first_arguments(check_file)
    for check in FileCheck.objects.under_way().exclude(pk__in=in_queue):
        go_on(check)


@clears_away
def unnamed_files() -> None:
    """Files of checks that are no more."""
    checking = {str(pk) for pk in FileCheck.objects.values_list("pk", flat=True)}
    for path in forgotten((Path(settings.DATA_DIR) / "checking").glob("*")):
        if path.name not in checking:
            path.unlink(missing_ok=True)
