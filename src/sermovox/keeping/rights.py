"""Who may read what: what is kept here nobody but who runs it, what is left elsewhere whoever reads other files there.

All processes write with a mask of 077, which the settings set.
"""

import stat
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from django.conf import settings

_OTHERS = stat.S_IRWXG | stat.S_IRWXO


def for_others(path: Path) -> None:
    """Give a file or folder that was left elsewhere the rights that others have there; some devices know none."""
    with suppress(OSError):
        path.chmod((0o777 if path.is_dir() else 0o666) & ~settings.UMASK)


def keep_own(folder: Path) -> None:
    """Let nobody else into a folder, and so to anything in it."""
    with suppress(OSError):
        if _is_wider(folder):
            folder.chmod(stat.S_IMODE(folder.stat().st_mode) & ~_OTHERS)


def wider(folder: Path) -> Iterator[Path]:
    """What others might read in a folder, and the folder itself. Each is mended once the next is asked for."""
    for path in (folder, *folder.rglob("*")):
        with suppress(OSError):
            if not path.is_symlink() and _is_wider(path):
                yield path
                keep_own(path)


def _is_wider(path: Path) -> bool:
    return bool(path.stat().st_mode & _OTHERS)
