"""The bytes of what is sent, as they lie here."""

from typing import BinaryIO

from sermovox.dispatch.models import Part
from sermovox.dispatch.ways.carrier import NotSent


def opened(part: Part) -> BinaryIO:
    """Open the file of a part. Raises NotSent where it is not there, or another lies in its place; notes nothing."""
    path = part.path
    if part.file and (part.file.delivery.deleted_at or part.file.delivery.production.deleted_at):
        raise NotSent("Its delivery was deleted meanwhile. Take it back to go on.")
    if part.file and (part.file.replaced_at or part.file.sha256 != part.sha256):
        raise NotSent(f"{part.name} was made or written anew since this was begun. Send the delivery again.")
    try:
        if path is None:
            raise FileNotFoundError
        return path.open("rb")
    except FileNotFoundError:
        raise NotSent(f"{part.name} is no longer here. Make it again, then send that.") from None
