"""Finished files read against their hashes."""

from collections.abc import Iterator

from sermovox.deliveries.models import FinishedFile
from sermovox.keeping import storage


def verify_files() -> Iterator[tuple[str, str]]:
    """Read every finished file that is kept. Yields what it is and "whole", "damaged" or "missing"."""
    for file in FinishedFile.objects.kept().select_related("delivery__production").iterator():
        yield f"{file.name} in {file.delivery.production.title}", storage.state_of_file(file.path, file.sha256)
