"""The bytes of what is sent, as they lie here."""

from typing import BinaryIO

from mastering.said import Said
from sermovox.dispatch.models import Part
from sermovox.dispatch.ways.carrier import NotSent


def opened(part: Part) -> BinaryIO:
    """Open the file of a part. Raises NotSent where it is not there, or another lies in its place; notes nothing."""
    path = part.path
    if part.file and (part.file.delivery.deleted_at or part.file.delivery.production.deleted_at):
        raise NotSent(Said("delivery-deleted-meanwhile-take-back"))
    if part.file and (part.file.replaced_at or part.file.sha256 != part.sha256):
        raise NotSent(Said("made-written-anew-since-begun", name=part.name))
    try:
        if path is None:
            raise FileNotFoundError
        return path.open("rb")
    except FileNotFoundError:
        raise NotSent(Said("no-longer-here-make-again", name=part.name)) from None
