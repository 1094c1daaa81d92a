"""Reading the stored recordings against their hashes."""

from collections.abc import Iterator
from dataclasses import dataclass

from sermovox import storage
from sermovox.recordings.models import Recording


@dataclass(frozen=True)
class Checked:
    """One stored file: "whole", "damaged" or "missing", and what recordings it is."""

    sha256: str
    names: tuple[str, ...]
    state: str


def verify() -> Iterator[Checked]:
    """Read every stored recording once, in the order of their hashes."""
    names: dict[str, list[str]] = {}
    for recording in (
        Recording.objects.usable().select_related("production").only("sha256", "name", "production__title")
    ):
        names.setdefault(recording.sha256, []).append(f"{recording.name} in {recording.production.title}")
    for sha256 in sorted(names):
        yield Checked(sha256, tuple(names[sha256]), storage.state_of(sha256))
