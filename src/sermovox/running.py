"""Whether the application runs with this data folder, in another process, and as what."""

from contextlib import suppress
from pathlib import Path
from typing import TextIO

from django.conf import settings
from django.core.files import locks

DEMONSTRATION = "demonstration"


def _path() -> Path:
    return Path(settings.DATA_DIR) / "running.lock"


def hold(words: str = "") -> TextIO | None:
    """Keep others from running with this data folder, for as long as the file that is given is open; None where one
    runs. `words` are for others to read.
    """
    file = _path().open("a+")
    if not locks.lock(file, locks.LOCK_EX | locks.LOCK_NB):
        file.close()
        return None
    file.truncate(0)
    file.write(words)
    file.flush()
    return file


def is_running() -> bool:
    """Whether it runs, in whatever process."""
    with suppress(OSError), _path().open("r") as file:
        # Closing it lets go again.
        return not locks.lock(file, locks.LOCK_SH | locks.LOCK_NB)
    return False


def is_demonstration() -> bool:
    """Whether this is the demonstration, or a command beside it: its stand-ins may be reached then."""
    if settings.DEMO_SIGN_IN:
        return True
    with suppress(OSError):
        return is_running() and _path().read_text() == DEMONSTRATION
    return False
