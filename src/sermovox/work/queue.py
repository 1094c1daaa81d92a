"""The queue of long work: short work apart from long, nobody's behind all of somebody else's, nothing twice.

Knows no app. A second queue takes what is over in seconds; a worker of its own serves that alone, so that it never
waits for a worker to be done with hours of sound. A third takes what waits for lines rather than for the processor.
"""

from collections.abc import Callable, Collection
from datetime import timedelta

from django.db import transaction
from django.utils import timezone
from django_tasks.base import TaskResultStatus
from django_tasks_db.models import DBTaskResult

SHORT = "short"
LONG = "default"
SENDING = "sending"
_LOWEST_PRIORITY = -100
_KEPT_FOR = timedelta(days=7)


def enqueue(task, *arguments, short: bool = False, sending: bool = False, behind: int = 0) -> None:
    """Queue a task. `short` is what is over in seconds; `behind` how many of the same person wait before it: those of
    several people take turns.
    """
    priority = max(_LOWEST_PRIORITY, task.priority - behind)
    task.using(queue_name=SENDING if sending else SHORT if short else LONG, priority=priority).enqueue(*arguments)


def enqueue_once(task, *arguments: int | str, short: bool = False, sending: bool = False, behind: int = 0) -> None:
    """Queue a task with these arguments, unless it waits or runs already."""
    with transaction.atomic():
        if not is_queued(task, *arguments):
            enqueue(task, *arguments, short=short, sending=sending, behind=behind)


def is_queued(task, *arguments: int | str) -> bool:
    """Whether a task with these arguments waits or runs. Locks nothing, so that pages may ask each second."""
    return under_way(task).filter(args_kwargs={"args": list(arguments), "kwargs": {}}).exists()


def under_way(task):
    """The tasks of this kind that wait or run."""
    return DBTaskResult.objects.filter(
        task_path=task.module_path, status__in=[TaskResultStatus.READY, TaskResultStatus.RUNNING]
    )


def waits(queue_name: str) -> bool:
    """Whether a task waits in a queue."""
    return DBTaskResult.objects.ready().filter(queue_name=queue_name).exists()


def first_arguments(*tasks, running: bool = False) -> set[int]:
    """What these tasks were given first, of those that wait or run: a key, or each of several."""
    found: set[int] = set()
    for task in tasks:
        results = under_way(task)
        if running:
            results = results.filter(status=TaskResultStatus.RUNNING)
        for kept in results.values_list("args_kwargs", flat=True):
            first = kept["args"][0]
            found |= set(first) if isinstance(first, list) else {first}
    return found


def put_back(living: Callable[[], Collection[str]] = tuple) -> int:
    """Make running tasks ready again that none of the living workers is at. Returns how many.

    `living` is asked once the running tasks are known: whoever has taken one of them lives by then.
    """
    if not DBTaskResult.objects.running().exists():
        return 0
    with transaction.atomic():
        running = DBTaskResult.objects.running().only("pk", "worker_ids")
        taken_by = {result.pk: set(result.worker_ids[-1:]) for result in running}
        known = set(living())
        broken_off = [pk for pk, workers in taken_by.items() if not workers & known]
        ready = {"status": TaskResultStatus.READY, "started_at": None}
        return DBTaskResult.objects.filter(pk__in=broken_off).update(**ready)


def workers_at_one_task_for(longest: timedelta) -> set[str]:
    """The workers that have been at one task for longer than that."""
    stuck = DBTaskResult.objects.running().filter(started_at__lt=timezone.now() - longest)
    return {ids[-1] for ids in stuck.values_list("worker_ids", flat=True) if ids}


def forget_finished() -> None:
    """Delete what was done long ago."""
    DBTaskResult.objects.finished().filter(finished_at__lt=timezone.now() - _KEPT_FOR).delete()
