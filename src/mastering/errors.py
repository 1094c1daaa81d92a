"""What the core says when it cannot go on. Each message tells a narrator what is wrong and what to do."""

from pathlib import Path


class MasteringError(Exception):
    """The base of all errors the core raises on purpose; its text is fit to be shown."""


def said_of(error: Exception, path: Path) -> str:
    """What an error of a library says of a file, without the folder that it lies in."""
    return str(error).replace(str(path), path.name).rstrip(".")


class UnreadableRecording(MasteringError):
    """The file is not sound, is damaged or is cut off."""


class CannotMake(MasteringError):
    """The recording is sound, but this outlet's file cannot be made from it."""


class FileInTheWay(MasteringError):
    """A file of that name exists and nobody has said it may be replaced."""


class Cancelled(MasteringError):
    """Somebody asked for the work to stop."""
