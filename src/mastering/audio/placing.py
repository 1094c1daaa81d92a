"""Files take their names when they are whole, and take no other's place unasked."""

import os
from pathlib import Path

from mastering.errors import FileInTheWay


def put_in_place(partial: Path, target: Path, *, replace: bool = False) -> None:
    """Give a whole file its name. Raises FileInTheWay where the name is taken and may not be replaced."""
    with partial.open("rb+") as file:
        os.fsync(file.fileno())
    if replace:
        os.replace(partial, target)
        return
    try:
        # A hard link fails where the name was taken meanwhile; a rename would overwrite it without a word.
        os.link(partial, target)
    except FileExistsError as error:
        raise FileInTheWay(f"{target.name} exists already. Move it away, or allow it to be replaced.") from error
    except OSError:
        if target.exists():
            raise FileInTheWay(f"{target.name} exists already. Move it away, or allow it to be replaced.") from None
        os.rename(partial, target)
