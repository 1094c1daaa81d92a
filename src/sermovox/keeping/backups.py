"""Copies of everything, made while everything runs, and brought back.

A folder of backups holds `objects/`, each recording, picture and finished file once under its SHA-256, and `copies/`,
one folder for each backup: the database as it was at one moment, the secret key, and `contents.json`, which says what
belongs to it. So the next backup copies only what is new.
"""

import hashlib
import json
import os
import shutil
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from django.conf import settings
from django.db import connection

from mastering import VERSION
from mastering.audio.placing import flush, flushed_folder, whole
from mastering.certain import certain
from mastering.errors import MasteringError
from sermovox.keeping import copied, rights, storage

_FORMAT = 1
_NAMED = "%Y-%m-%dT%H%M%SZ"
_CHUNK_BYTES = 1 << 20
_AGAIN_AFTER_S = 3600.0
_DATABASE, _CONTENTS, _SECRET = "sermovox.sqlite3", "contents.json", "secret-key"
_HOLDING = "state IN ('measuring', 'ready') OR binned_at IS NOT NULL"
_KEPT_FILES = (
    "state IN ('passes', 'passes with a remark', 'fails') AND stored_as <> '' AND (replaced_at IS NULL OR in_bin)"
)
_ALONG = (
    "SELECT dispatch_id, name, sha256, size_bytes FROM dispatch_part WHERE file_id IS NULL AND dispatch_id IN "
    "(SELECT id FROM dispatch_dispatch WHERE state NOT IN ('sent', 'there', 'arrived', 'cancelled'))"
)
Told = Callable[[int, int], None]
"""Called with the bytes dealt with and all there are."""


class _Damaged(Exception):
    """What is to be copied is not what its hash says."""


class CannotBackUp(MasteringError):
    """There is no backup here, or no room for one; the text says what to do."""


@dataclass(frozen=True)
class Item:
    """One file of a backup: what it is, where in the data folder it lies, and what it has to be."""

    said: str
    place: str
    sha256: str
    size_bytes: int


@dataclass(frozen=True)
class Outcome:
    """What a backup or bringing one back came to; `wrong` are files that are missing or damaged, in sentences."""

    copy: Path
    files: int
    copied_bytes: int
    wrong: tuple[str, ...]


def back_up(folder: Path, *, keep: int | None = None, told: Told = lambda done, whole: None) -> Outcome:
    """Copy the database as it is now and every file it names into a folder; what is there already is not copied again.

    `keep` says how many backups stay; older ones go. Raises CannotBackUp, OSError; nothing half-made is left then.
    """
    data = Path(settings.DATA_DIR)
    if folder.resolve().is_relative_to(data):
        raise CannotBackUp("A backup does not lie in the folder it is a backup of. Choose one on another disk.")
    copies = flushed_folder(folder / "copies")
    for each in (copies, flushed_folder(folder / "objects")):
        rights.keep_own(each)
    for half in copies.glob("*.partial"):
        shutil.rmtree(half, ignore_errors=True)
    with storage.copying():
        while (copies / f"{(moment := datetime.now(UTC)):{_NAMED}}").exists():
            time.sleep(0.1)
        partial = copies / f"{moment:{_NAMED}}.partial"
        partial.mkdir()
        try:
            _copy_database(partial / _DATABASE)
            items, added = _items(partial / _DATABASE), 0
            wrong: list[str] = []
            whole, done, there = sum(item.size_bytes for item in items), 0, []
            for item in items:
                size = _copy(data / item.place, _object(folder, item.sha256), item, wrong)
                added += size or 0
                done += item.size_bytes
                told(done, whole)
                if size is not None:
                    there.append(item)
            if (data / _SECRET).exists():
                shutil.copy(data / _SECRET, partial / _SECRET)
            contents = {
                "format": _FORMAT,
                "made_at": moment.isoformat(timespec="seconds"),
                "version": VERSION,
                "database": _hash_of(partial / _DATABASE),
                "files": [[item.said, item.place, item.sha256, item.size_bytes] for item in there],
                "wrong": wrong,
            }
            (partial / _CONTENTS).write_text(json.dumps(contents, ensure_ascii=False, indent=1), "utf-8")
            for path in (*partial.iterdir(), partial):
                flush(path)
            final = partial.with_suffix("")
            os.rename(partial, final)
            flush(copies)
        except BaseException:
            shutil.rmtree(partial, ignore_errors=True)
            raise
    if keep is not None:
        thin_out(folder, keep)
    return Outcome(final, len(there), added, tuple(wrong))


def bring_back(folder: Path, *, name: str = "", told: Told = lambda done, whole: None) -> Outcome:
    """Fill an empty data folder from a backup: the newest, or that of a name. Each file is proven by its hash.

    The database comes last, so that what was broken off can be begun again. Raises CannotBackUp, OSError.
    """
    data = Path(settings.DATA_DIR)
    if (data / _DATABASE).exists():
        raise CannotBackUp(
            f"There is an installation in {data} already. Move that folder away, or name another with SERMOVOX_DATA."
        )
    copy = _chosen(folder, name)
    contents = _contents(copy)
    items = [Item(*each) for each in contents["files"]]
    wrong: list[str] = []
    brought, done, whole = 0, 0, sum(item.size_bytes for item in items)
    for item in items:
        size = _copy(_object(folder, item.sha256), data / item.place, item, wrong)
        brought += size or 0
        if size is not None and item.place.startswith("recordings/"):
            (data / item.place).chmod(0o400)
        done += item.size_bytes
        told(done, whole)
    if _hash_of(copy / _DATABASE) != contents["database"]:
        raise CannotBackUp(f"The database of {copy.name} is damaged. Name an older backup with --copy.")
    if (copy / _SECRET).exists():
        shutil.copy(copy / _SECRET, data / _SECRET)
        flush(data / _SECRET)
    partial = data / f"{_DATABASE}.partial"
    shutil.copyfile(copy / _DATABASE, partial)
    copied.note(contents["made_at"], partial)
    flush(partial)
    os.rename(partial, data / _DATABASE)
    flush(data)
    return Outcome(copy, len(items) - len(wrong), brought, tuple(wrong))


def copies_in(folder: Path) -> list[Path]:
    """The backups of a folder, oldest first."""
    found = (folder / "copies").glob("*/" + _CONTENTS)
    return sorted(path.parent for path in found if path.parent.suffix != ".partial")


def verify(folder: Path) -> Iterator[tuple[str, str]]:
    """Read every file of all backups once. Yields what each is and "whole", "damaged" or "missing"."""
    copies = copies_in(folder)
    if not copies:
        raise CannotBackUp(f"There is no backup in {folder}.")
    wanted: dict[str, str] = {}
    for copy in copies:
        try:
            contents = _contents(copy)
        except CannotBackUp:
            yield f"The contents of backup {copy.name}", "damaged"
            continue
        wanted |= {sha256: said for said, _, sha256, _ in contents["files"]}
        yield f"The database of backup {copy.name}", _state_of(copy / _DATABASE, contents["database"])
    for sha256, said in wanted.items():
        path = _object(folder, sha256)
        state = _state_of(path, sha256)
        if state == "damaged":
            # Out of the way, so that the next backup copies it anew.
            os.replace(path, path.with_suffix(".damaged"))
        yield said, state


def thin_out(folder: Path, keep: int) -> None:
    """Delete all backups but the newest, and the files that only those had."""
    copies = copies_in(folder)
    for copy in copies[: max(0, len(copies) - max(1, keep))]:
        shutil.rmtree(copy)
    try:
        used = {each[2] for copy in copies_in(folder) for each in _contents(copy)["files"]}
    except CannotBackUp:
        return  # What one of them needs is not known, so all of it stays.
    for path in (folder / "objects").glob("*/*"):
        if path.name not in used:
            path.unlink(missing_ok=True)


@dataclass
class _Nightly:
    process: subprocess.Popen | None = None
    begun_at: float = -_AGAIN_AFTER_S


_nightly = _Nightly()


def make_nightly() -> None:
    """Begin the backup of this night in a process of its own, if one is set and due."""
    # A copy would thin out the backups of the one it was made of.
    if settings.BACKUPS_DIR is None or copied.is_held() or (_nightly.process and _nightly.process.poll() is None):
        return
    if is_due(datetime.now(UTC)) and time.monotonic() - _nightly.begun_at > _AGAIN_AFTER_S:
        _nightly.begun_at = time.monotonic()
        command = ["-m", "sermovox.cli", "backup", str(settings.BACKUPS_DIR), "--keep", str(settings.KEEP_BACKUPS)]
        _nightly.process = subprocess.Popen([sys.executable, *command], stdin=subprocess.DEVNULL)


def is_due(now: datetime) -> bool:
    """Whether the time of day has passed since the newest backup."""
    due = datetime.combine(now.date(), settings.BACKUP_AT, tzinfo=UTC)
    due = due if due <= now else due - timedelta(days=1)
    newest = newest_at(certain(settings.BACKUPS_DIR))
    return newest is None or newest < due


def newest_at(folder: Path) -> datetime | None:
    """When the newest backup of a folder was made."""
    copies = copies_in(folder)
    return datetime.strptime(copies[-1].name, _NAMED).replace(tzinfo=UTC) if copies else None


def _copy_database(target: Path) -> None:
    """The database as it is at one moment, in one file."""
    source = connection.settings_dict["NAME"]
    with closing(sqlite3.connect(source, timeout=60)) as ours, closing(sqlite3.connect(target)) as theirs:
        ours.backup(theirs)
        theirs.execute("PRAGMA journal_mode=DELETE")


def _items(database: Path) -> list[Item]:
    """Every file that a database names, each place once."""
    data, items = Path(settings.DATA_DIR), {}
    with closing(sqlite3.connect(database)) as rows:
        for sha256, name, size in rows.execute(
            f"SELECT sha256, name, size_bytes FROM recordings_recording WHERE {_HOLDING} ORDER BY id"
        ):
            place = f"recordings/{sha256[:2]}/{sha256}"
            items[place] = Item(f"Recording {name}", place, sha256, size)
        for delivery, key, stored_as, name, sha256 in rows.execute(
            f"SELECT delivery_id, id, stored_as, name, sha256 FROM deliveries_finishedfile WHERE {_KEPT_FILES}"
        ):
            place = f"deliveries/{delivery}/{key}/{stored_as}"
            path = data / place
            items[place] = Item(f"Finished file {name}", place, sha256, path.stat().st_size if path.exists() else 0)
        for dispatch, name, sha256, size in rows.execute(_ALONG):
            place = f"dispatch/{dispatch}/{Path(name).name}"
            if (data / place).exists():
                items[place] = Item(f"What goes along, {Path(name).name},", place, sha256, size)
    for path in sorted((data / "artwork").glob("*")):
        if len(path.name) == 64:
            place = f"artwork/{path.name}"
            items[place] = Item("A picture", place, path.name, path.stat().st_size)
    return list(items.values())


def _copy(source: Path, target: Path, item: Item, wrong: list[str]) -> int | None:
    """Copy a file, proven by its hash. Returns how many bytes were copied, 0 where it is there already; None and a
    sentence where it is not what it has to be.
    """
    if target.exists() and target.stat().st_size == item.size_bytes:
        return 0
    if not source.exists():
        wrong.append(f"{item.said} is missing.")
        return None
    flushed_folder(target.parent)
    digest, size = hashlib.sha256(), 0
    with suppress(_Damaged), whole(target, replace=True) as partial:
        with source.open("rb") as theirs, partial.open("xb") as ours:
            while chunk := theirs.read(_CHUNK_BYTES):
                digest.update(chunk)
                ours.write(chunk)
                size += len(chunk)
        if digest.hexdigest() != item.sha256:
            raise _Damaged
        return size
    wrong.append(f"{item.said} is damaged.")
    return None


def _object(folder: Path, sha256: str) -> Path:
    return folder / "objects" / sha256[:2] / sha256


def _chosen(folder: Path, name: str) -> Path:
    copies = copies_in(folder)
    if not copies:
        raise CannotBackUp(f"There is no backup in {folder}.")
    if not name:
        return copies[-1]
    for copy in copies:
        if copy.name == name:
            return copy
    raise CannotBackUp(f"There is no backup {name}. There are: {', '.join(copy.name for copy in copies)}.")


def _contents(copy: Path) -> dict:
    try:
        contents = json.loads((copy / _CONTENTS).read_text("utf-8"))
        if contents["format"] != _FORMAT:
            raise CannotBackUp(f"Backup {copy.name} was made by a newer version of Sermovox. Update this one first.")
        for _, place, sha256, _ in contents["files"]:
            if Path(place).is_absolute() or ".." in Path(place).parts or not sha256.isalnum():
                raise ValueError(place)
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise CannotBackUp(f"The contents of backup {copy.name} cannot be read. Name another with --copy.") from error
    return contents


def _state_of(path: Path, sha256: str) -> str:
    if not path.exists():
        return "missing"
    return "whole" if _hash_of(path) == sha256 else "damaged"


def _hash_of(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
