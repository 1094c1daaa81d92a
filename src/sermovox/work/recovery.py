"""What looks after everything that waits: puts back what was broken off, tries again, empties bins, clears away.

Knows no app: each registers what it looks after in a module `recovery` of its own, read when it is first asked.
Called at the start, every few seconds by the supervisor, and where a page waits for one thing, for that.
"""

import logging
import time
from collections.abc import Callable, Collection, Iterable, Iterator
from contextlib import suppress
from functools import cache
from pathlib import Path

from django.conf import settings
from django.db import DatabaseError, close_old_connections
from django.utils.module_loading import autodiscover_modules

from mastering.said import Said
from sermovox.keeping import copied, room, storage
from sermovox.work import queue

Look = Callable[[], object]
logger = logging.getLogger(__name__)
_FORGOTTEN_S = 24 * 3600
"""What is younger may belong to something that goes on just now."""
_putting_back: list[Look] = []
_ALWAYS: tuple[Look, ...] = (room.keep_reserve, queue.forget_finished)
_looking_after: list[Look] = list(_ALWAYS)
_clearing_away: list[Look] = []


def puts_back(look: Look) -> Look:
    """Register what sees to work that a worker broke off, once its task is ready again."""
    _putting_back.append(look)
    return look


def looks_after(look: Look) -> Look:
    """Register what sees to something that could wait for ever."""
    _looking_after.append(look)
    return look


def clears_away(look: Look) -> Look:
    """Register what deletes bytes that no row names."""
    _clearing_away.append(look)
    return look


def requeue_tasks(living: Callable[[], Collection[str]] = tuple) -> int:
    """Make tasks ready again that no living worker is at; what they were making waits again. Returns how many."""
    _read_apps()
    count = queue.put_back(living)
    if count:
        for look in _putting_back:
            look()
    return count


def look_after() -> None:
    """See to everything that could wait for ever. Whatever cannot be done now is done the next time."""
    _read_apps()
    for look in _looking_after:
        if look in _ALWAYS or not copied.is_held():
            seen_to(look)


def clear_away() -> None:
    """Delete what no row names: left behind by a kill, or kept while a copy of everything was made."""
    _read_apps()
    for look in _clearing_away if not copied.is_held() else ():
        seen_to(look)


@cache
def _read_apps() -> None:
    autodiscover_modules("recovery")


def seen_to(look: Look) -> None:
    """Do one of these. Whatever it stumbles over only puts it off: the others have to be looked after all the same."""
    close_old_connections()
    try:
        look()
    except (DatabaseError, OSError) as error:
        if storage.is_full(error):
            room.let_go()
        logger.warning("Looking after what waits: %s", error)
    except Exception:
        logger.exception(Said("looking-after-what-waits"))


def forgotten(paths: Iterable[Path]) -> Iterator[Path]:
    """Those that nobody has touched for a day."""
    for path in paths:
        with suppress(FileNotFoundError):
            if time.time() - path.stat().st_mtime > _FORGOTTEN_S:
                yield path


@clears_away
def _half_written() -> None:
    for path in forgotten((Path(settings.DATA_DIR) / "cache").rglob("*")):
        if storage.is_half_written(path):
            path.unlink(missing_ok=True)
