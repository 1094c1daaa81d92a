"""What tests keep from one run to the next, under a hash of all that it follows from."""

import hashlib
import os
import shutil
import subprocess
import sys
import uuid
from collections.abc import Callable, Iterable
from pathlib import Path

from django.core.files import locks

SOURCE = Path(__file__).resolve().parents[2]
DEPENDENCIES = SOURCE.parent / "pyproject.toml"
FOLDER = Path(os.environ.get("SERMOVOX_TEST_CACHE") or Path.home() / ".cache" / "sermovox-tests")
_KEPT_OF_EACH = 3


def application() -> list[Path]:
    """All that the application is made of; not its tests."""
    own = (path for name in ("mastering", "sermovox") for path in (SOURCE / name).rglob("*") if path.is_file())
    return [path for path in own if not {"tests", "__pycache__"} & set(path.parts)]


def migrations() -> list[Path]:
    """What makes the database."""
    return list(SOURCE.glob("sermovox/*/migrations/*.py"))


def kept(name: str, follows_from: Iterable[Path], make: Callable[[Path], None]) -> Path:
    """The folder of that name, made by `make` in an empty folder where it is not there yet. What it follows from is
    known from its files, and from which packages are installed.
    """
    digest = hashlib.sha256()
    for path in sorted({*follows_from, DEPENDENCIES}):
        digest.update(
            str(path.relative_to(SOURCE.parent)).encode() + b"\0" + hashlib.sha256(path.read_bytes()).digest()
        )
    FOLDER.mkdir(parents=True, exist_ok=True)
    target = FOLDER / f"{name}-{digest.hexdigest()[:24]}"
    with (FOLDER / f"{name}.lock").open("w") as lock:
        # Closing it lets go.
        locks.lock(lock, locks.LOCK_EX)
        if not target.exists():
            making = FOLDER / f"{name}.{uuid.uuid4().hex}"
            making.mkdir()
            try:
                make(making)
                making.rename(target)
            finally:
                shutil.rmtree(making, ignore_errors=True)
        target.touch()
        of_name = sorted(FOLDER.glob(f"{name}-*"), key=lambda path: -path.stat().st_mtime)
        for old in of_name[_KEPT_OF_EACH:]:
            shutil.rmtree(old, ignore_errors=True)
    return target


def database() -> Path:
    """The database as all migrations have made it, with nothing in it."""
    return kept("migrated", migrations(), _migrate) / "sermovox.sqlite3"


def _migrate(folder: Path) -> None:
    environment = os.environ | {"SERMOVOX_DATA": str(folder), "DJANGO_SETTINGS_MODULE": "sermovox.settings"}
    subprocess.run([sys.executable, "-m", "django", "migrate", "--verbosity", "0"], env=environment, check=True)


def with_a_database(data: Path) -> Path:
    """A data folder with that in it: what is started there need not make it first."""
    data.mkdir(parents=True, exist_ok=True)
    shutil.copy(database(), data)
    return data
