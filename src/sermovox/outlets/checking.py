"""Files from anywhere brought in to be held against an outlet."""

import uuid
from collections.abc import Iterable
from datetime import timedelta

from django.utils import timezone

from mastering.audio.placing import whole
from mastering.outlets.outlet import Outlet
from mastering.outlets.rulesheets import written
from mastering.said import Said
from sermovox.keeping import storage
from sermovox.keeping.limits import is_short
from sermovox.outlets.models import FileCheck
from sermovox.outlets.tasks import check_file
from sermovox.work.queue import enqueue_once

_ARRIVES_WITHIN = timedelta(hours=1)


def begin(user, outlet: Outlet, files: Iterable, content_kind: str) -> None:
    """Keep uploaded files until they are checked, and queue that."""
    batch, text = uuid.uuid4(), written(outlet)
    for file in files:
        facts = {"owner": user, "batch": batch, "outlet_key": outlet.key, "toml": text}
        check = FileCheck.objects.create(name=file.name[:255], content_kind=content_kind, **facts)
        try:
            with whole(check.path, replace=True) as arriving, arriving.open("wb") as kept:
                for chunk in file.chunks():
                    kept.write(chunk)
        except OSError as error:
            check.settle(FileCheck.State.UNREADABLE, said=storage.said_of(error))
        else:
            _queue(check)


def go_on(check: FileCheck) -> None:
    """Have it checked, should it not be in the queue although its file is here."""
    if check.path.exists():
        _queue(check)
    elif check.created_at < timezone.now() - _ARRIVES_WITHIN:
        check.settle(FileCheck.State.UNREADABLE, said=Said("file-did-not-arrive-whole"))


def _queue(check: FileCheck) -> None:
    """Have it checked. Files of several people take turns."""
    before = FileCheck.objects.under_way().filter(owner=check.owner_id, pk__lt=check.pk)
    enqueue_once(check_file, check.pk, short=is_short(check.path), behind=before.count())
