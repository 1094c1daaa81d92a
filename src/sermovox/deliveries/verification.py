"""Finished files read against their hashes."""

from collections.abc import Iterator

from django.db.models import Q

from sermovox import storage
from sermovox.deliveries.models import FinishedFile


def verify_files() -> Iterator[tuple[str, str]]:
    """Read every finished file that is kept. Yields what it is and "whole", "damaged" or "missing"."""
    kept = FinishedFile.objects.made().filter(Q(replaced_at=None) | Q(in_bin=True))
    for file in kept.select_related("delivery__production").iterator():
        yield f"{file.name} in {file.delivery.production.title}", storage.state_of_file(file.path, file.sha256)
