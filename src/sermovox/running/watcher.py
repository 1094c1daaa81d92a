"""The watched folder: new files in it are taken in once they have stopped growing, and stay where they are.

Each production has a folder there, named by its key.
"""

import logging
import os
import time
from math import inf
from pathlib import Path

import sermovox.running.ready  # noqa: F401
from mastering.errors import MasteringError
from sermovox.keeping import copied, rights
from sermovox.productions.models import Production
from sermovox.recordings.intake import take_in
from sermovox.recordings.models import WatchedFile

LOOK_EVERY_S = 2.0
STILL_FOR_S = 5.0
_UNFINISHED = (".part", ".partial", ".crdownload", ".tmp", ".download")
logger = logging.getLogger(__name__)


class Watcher:
    """Looks at a folder again and again; remembers between looks which files are still growing."""

    def __init__(self, folder: Path, *, still_for_s: float = STILL_FOR_S):
        self._folder = folder
        self._still_for_s = still_for_s
        self._growing: dict[Path, tuple[int, int, float]] = {}

    def look(self) -> int:
        """Take in what is new and has stopped growing. Returns how many files were dealt with."""
        dealt_with = 0
        if copied.is_held():
            return dealt_with
        for production in Production.objects.all():
            folder = self._folder / production.key
            if not folder.exists():
                folder.mkdir(parents=True)
                rights.for_others(folder)
            for path in sorted(folder.rglob("*")):
                if self._is_new(path):
                    self._deal_with(production, path)
                    dealt_with += 1
        return dealt_with

    def _is_new(self, path: Path) -> bool:
        if path.is_symlink() or not path.is_file() or _unfinished(path.relative_to(self._folder)):
            return False
        found, told = path.stat(), _told(path)
        size_bytes, modified_ns, since = self._growing.get(path, (-1, -1, 0.0))
        if (found.st_size, found.st_mtime_ns) != (size_bytes, modified_ns):
            since = time.monotonic()
            self._growing[path] = (found.st_size, found.st_mtime_ns, since)
        if time.monotonic() - since < self._still_for_s:
            return False
        known = WatchedFile.objects.filter(path=told, size_bytes=found.st_size, modified_ns=found.st_mtime_ns)
        # What is known needs no second question; it counts as growing for ever, or until it changes.
        self._growing[path] = (found.st_size, found.st_mtime_ns, inf)
        return not known.exists()

    def _deal_with(self, production, path: Path) -> None:
        refusal = ""
        size_bytes, modified_ns, _ = self._growing[path]
        try:
            take_in(production, path)
        except MasteringError as error:
            refusal = str(error)
        production.watched_files.get_or_create(
            path=_told(path), size_bytes=size_bytes, modified_ns=modified_ns, defaults={"refusal": refusal}
        )


def _told(path: Path) -> str:
    """A path as text for the database; bytes that are no text are shown as such."""
    return os.fsencode(path).decode("utf-8", "backslashreplace")


def _unfinished(path: Path) -> bool:
    hidden = any(part.startswith((".", "~")) for part in path.parts)
    return hidden or path.suffix.lower() in _UNFINISHED


def main(folder: str) -> None:
    watcher = Watcher(Path(folder))
    while True:
        try:
            watcher.look()
        except OSError:
            logger.exception("Looking at the watched folder %s", folder)
        time.sleep(LOOK_EVERY_S)
