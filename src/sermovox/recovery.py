"""Work in the queue: putting back what was broken off, and not queueing the same twice."""


def forget_half_taken_in() -> None:
    """Uploads that were whole when the server was stopped are looked at again when their page asks."""
    from sermovox.recordings.models import Upload

    Upload.objects.filter(state=Upload.State.FINISHING).update(state=Upload.State.ARRIVING)


def requeue_tasks(worker_id: str | None = None) -> int:
    """Make running tasks ready again: those of one dead worker, or all when no worker is left.

    Returns how many. Files in the making go back to waiting; each counts how often it was begun.
    """
    from django.db import transaction
    from django_tasks.base import TaskResultStatus
    from django_tasks_db.models import DBTaskResult

    from sermovox.deliveries.models import FinishedFile
    from sermovox.deliveries.tasks import make_file, make_files

    with transaction.atomic():
        broken_off = [
            result
            for result in DBTaskResult.objects.running()
            if worker_id is None or result.worker_ids[-1:] == [worker_id]
        ]
        for result in broken_off:
            if result.task_path in (make_file.module_path, make_files.module_path):
                keys = result.args_kwargs["args"][0]
                keys = keys if isinstance(keys, list) else [keys]
                FinishedFile.objects.filter(pk__in=keys, state=FinishedFile.State.MAKING).update(
                    state=FinishedFile.State.WAITING, share=0.0
                )
        keys = [result.pk for result in broken_off]
        return DBTaskResult.objects.filter(pk__in=keys).update(status=TaskResultStatus.READY, started_at=None)


def enqueue_once(task, *arguments: int | str) -> None:
    """Queue a task with these arguments, unless it waits or runs already."""
    from django.db import transaction
    from django_tasks.base import TaskResultStatus
    from django_tasks_db.models import DBTaskResult

    with transaction.atomic():
        under_way = DBTaskResult.objects.filter(
            task_path=task.module_path,
            status__in=[TaskResultStatus.READY, TaskResultStatus.RUNNING],
            args_kwargs={"args": list(arguments), "kwargs": {}},
        )
        if not under_way.exists():
            task.enqueue(*arguments)
