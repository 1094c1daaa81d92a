"""Which processes of the application could not be started, and why: said once in the log, and on the pages that miss
them for as long as the application runs without.
"""

import json
import os
from contextlib import suppress
from pathlib import Path

from django.conf import settings

from mastering.audio.placing import whole
from mastering.said import Said, plain, revived, word

WORKER, SHORT_WORKER, SENDER = "worker", "worker for short work", "worker that sends"
WORKERS = (WORKER, SHORT_WORKER, SENDER)
STAND_INS, WATCHER = "process of the stand-ins", "watcher of the folder"
PAUSES_S = (1.0, 5.0, 600.0)
"""How long a process that ends as soon as it starts is left before it is started again. With the last of them it is
told; whatever was in its way may be gone by then.
"""


def forget() -> None:
    """Nothing is lacking: the application starts."""
    _noted_in().unlink(missing_ok=True)
    for path in _folder().glob("*.reason"):
        path.unlink(missing_ok=True)


def keep_reason(reason: str) -> None:
    """Called by a process that cannot go on: why, in a sentence, for the one that started it."""
    with suppress(OSError):
        _folder().mkdir(exist_ok=True)
        _reason_of(os.getpid()).write_text(reason)


def take_reason(process: int) -> str:
    """What a process that has ended said it could not go on for; empty where it said nothing."""
    try:
        return _reason_of(process).read_text()
    except OSError:
        return ""
    finally:
        _reason_of(process).unlink(missing_ok=True)


def note(name: str, reason: str) -> str:
    """Keep that a process is left out from now on; what is to be told of it."""
    _write(_noted() | {name: reason})
    return sentence(name, reason)


def sentence(name: str, reason: str) -> str:
    """What is told of a process that is left out."""
    return Said("cannot-started-ended-once-times", name=word(name), count=len(PAUSES_S), reason=reason)


def is_there(name: str) -> None:
    """A process that was left out has started after all."""
    noted = _noted()
    if noted.pop(name, None) is not None:
        _write(noted)


def sentences(*names: str) -> list[str]:
    """What is told of those of these processes that are left out."""
    return [sentence(name, reason) for name, reason in _noted().items() if name in names]


def _noted() -> dict[str, str]:
    with suppress(OSError, ValueError):
        return revived(json.loads(_noted_in().read_text()))
    return {}


def _write(noted: dict[str, str]) -> None:
    with suppress(OSError):
        _folder().mkdir(exist_ok=True)
        with whole(_noted_in(), replace=True) as partial:
            partial.write_text(json.dumps(plain(noted)))


def _folder() -> Path:
    return Path(settings.DATA_DIR) / "lacking"


def _reason_of(process: int) -> Path:
    return _folder() / f"{process}.reason"


def _noted_in() -> Path:
    return _folder() / "noted.json"
