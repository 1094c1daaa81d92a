"""How a worker waits for its tasks: whatever is written into the database wakes it, and until then it asks nothing."""

import logging
from math import inf

from django.db import OperationalError, close_old_connections
from django.utils import timezone
from django_tasks_db.management.commands.db_worker import Worker
from django_tasks_db.models import DBTaskResult
from django_tasks_db.utils import exclusive_transaction

from sermovox.running.changes import Changes

_AT_MOST_S = 3600.0
_AGAIN_IN_S = 5.0
logger = logging.getLogger(__name__)


class Woken(Worker):
    """A worker that looks for a task when there may be one."""

    def run(self) -> None:
        changes = Changes()
        while self.running:
            close_old_connections()
            number = changes.number()
            try:
                found, pause_s = self._claimed(), self._next_due_s()
            except OperationalError as error:
                # A full disk, a database that somebody holds: over in a while, and no reason to end.
                logger.warning("Looking for a task: %s", error)
                found, number, pause_s = None, changes.number(), _AGAIN_IN_S
            if found is not None:
                self.run_task(found)
            elif self.running:
                changes.wait(number, min(_AT_MOST_S, pause_s))

    def _claimed(self) -> DBTaskResult | None:
        """The first task that is ready, which is this worker's from now on."""
        # Without a lock first: most of what wakes a worker is no task of its own.
        if not self._tasks().exists():
            return None
        with exclusive_transaction(self._tasks().db):
            found = self._tasks().get_locked()
            if found is not None:
                found.claim(self.worker_id)
        return found

    def _tasks(self):
        return DBTaskResult.objects.ready().filter(queue_name__in=self.queue_names, backend_name=self.backend_name)

    def _next_due_s(self) -> float:
        """For how long the next of those that wait for their time has to wait still."""
        waiting = DBTaskResult.objects.filter(status="READY", queue_name__in=self.queue_names)
        at = waiting.filter(run_after__gt=timezone.now()).order_by("run_after").values_list("run_after", flat=True)
        return max(0.0, (at[0] - timezone.now()).total_seconds()) if at else inf


def work(identity: str, queues: list[str]) -> None:
    """Take tasks from these queues until told to stop."""
    for name in ("django_tasks", "django_tasks_db"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    worker = Woken(
        queue_names=queues,
        interval=0,
        batch=False,
        backend_name="default",
        startup_delay=False,
        max_tasks=None,
        worker_id=identity,
        excluded_queue_names=[],
    )
    worker.configure_signals()
    worker.run()
