"""Everything that is kept, read against its hashes."""

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings

from sermovox.keeping import storage
from sermovox.recordings.models import Recording


@dataclass(frozen=True)
class Checked:
    """One stored file: "whole", "damaged" or "missing", and what recordings it is."""

    sha256: str
    names: tuple[str, ...]
    state: str


def verify() -> Iterator[Checked]:
    """Read every stored recording once, in the order of their hashes; those in the bin too."""
    names: dict[str, list[str]] = {}
    for recording in (
        Recording.with_deleted.holding().select_related("production").only("sha256", "name", "production__title")
    ):
        names.setdefault(recording.sha256, []).append(f"{recording.name} in {recording.production.title}")
    for sha256 in sorted(names):
        yield Checked(sha256, tuple(names[sha256]), storage.state_of(sha256))


def verify_pictures() -> Iterator[tuple[str, str]]:
    """Read every picture that was kept. Yields its hash and "whole" or "damaged"."""
    for path in sorted((Path(settings.DATA_DIR) / "artwork").glob("*")):
        if len(path.name) == 64:
            whole = hashlib.sha256(path.read_bytes()).hexdigest() == path.name
            yield path.name, "whole" if whole else "damaged"
