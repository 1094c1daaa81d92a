"""Whether the application runs with this data folder, in another process, as what and where."""

import json
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TextIO

from django.conf import settings
from django.core.files import locks


@dataclass(frozen=True)
class Run:
    """One run of the application, as it tells others of itself."""

    address: str = ""
    process: int = 0
    is_demonstration: bool = False
    server: int = 0
    """The process of its web server, which is that of a group; 0 before there is one."""


def _path() -> Path:
    return Path(settings.DATA_DIR) / "running.lock"


def hold(run: Run) -> TextIO | None:
    """Keep others from running with this data folder, for as long as the file that is given is open; None where one
    runs.
    """
    file = _path().open("a+")
    if not locks.lock(file, locks.LOCK_EX | locks.LOCK_NB):
        file.close()
        return None
    tell(file, run)
    return file


def tell(file: TextIO, run: Run) -> None:
    """Say of a run that is held what is known by now."""
    file.truncate(0)
    file.write(json.dumps(asdict(run)))
    file.flush()


def latest() -> Run:
    """The run that goes on, or the one before."""
    with suppress(OSError, ValueError, TypeError):
        return Run(**json.loads(_path().read_text()))
    return Run()


def is_running() -> bool:
    """Whether it runs, in whatever process."""
    with suppress(OSError), _path().open("r") as file:
        # Closing it lets go again.
        return not locks.lock(file, locks.LOCK_SH | locks.LOCK_NB)
    return False


def is_demonstration() -> bool:
    """Whether this is the demonstration, or a command beside it: its stand-ins may be reached then."""
    return settings.DEMO_SIGN_IN or (is_running() and latest().is_demonstration)
