"""Renaming files by a map of old and new names: all of them or none."""

import json
import os
import uuid
from collections.abc import Sequence
from pathlib import Path

from mastering.audio.placing import whole
from mastering.editing.tables import read_table
from mastering.errors import MasteringError
from mastering.naming.checks import check_names
from mastering.said import Said

_NOTE = ".renaming.json"


class CannotRename(MasteringError):
    """The map does not fit the files; nothing was renamed."""


def read_map(text: str) -> list[tuple[str, str]]:
    """The pairs of a map: a table of old and new names, with or without a line of headings.

    Raises CannotRename with the line that has no two names, and UnreadableText.
    """
    rows = list(enumerate(read_table(text), 1))
    if rows and [cell.lower().removesuffix(" name") for cell in rows[0][1][:2]] == ["old", "new"]:
        del rows[0]
    if not rows:
        raise CannotRename(Said("map-empty-write-old-new"))
    for line, row in rows:
        if len(row) < 2 or not row[0] or not row[1]:
            raise CannotRename(Said("line-does-not-old-new", line=line))
    return [(row[0], row[1]) for _, row in rows]


def new_names(names: Sequence[str], pairs: Sequence[tuple[str, str]]) -> list[str]:
    """What each file will be called. `pairs` are (old name, new name); names they do not speak of stay.

    Raises CannotRename when the map names a file that is not there, names one twice, or the names that come of it
    cannot lie together.
    """
    wanted: dict[str, str] = {}
    for old, new in pairs:
        if old in wanted:
            raise CannotRename(Said("stands-map-twice-nothing-renamed", old=old))
        if old not in names:
            raise CannotRename(Said("there-no-file-called-nothing", old=old))
        wanted[old] = new
    result = [wanted.get(name, name) for name in names]
    for problem in check_names(result):
        if problem.grave:
            raise CannotRename(
                Said("nothing-renamed", result=result[problem.index], words=problem.words, mend=problem.mend)
            )
    for old, new in zip(names, result, strict=True):
        if Path(old).suffix.lower() != Path(new).suffix.lower():
            raise CannotRename(Said("cannot-become-ending-says-what", old=old, new=new))
    return result


def rename_all(moves: Sequence[tuple[Path, Path]]) -> None:
    """Rename files so that either all have their new names or all keep the old ones. Names may change places.

    What is to be done is written down beside them first, so that one broken off in the middle can be taken back (see
    `take_back_broken_off`). Raises CannotRename, after putting back what was renamed.
    """
    moves = [(old, new) for old, new in moves if old != new]
    leaving = {old for old, _ in moves}
    for old, new in moves:
        if not old.exists():
            raise CannotRename(Said("not-there-any-more-nothing", name=old.name))
        # On disks that fold case, a name that changes only in case finds itself.
        if new not in leaving and new.exists() and not new.samefile(old):
            raise CannotRename(Said("there-file-called-already-nothing", name=new.name))
    aside = [(old, old.with_name(f".{uuid.uuid4().hex}.renaming"), new) for old, new in moves]
    done: list[tuple[Path, Path]] = []
    notes = [_noted(folder, aside) for folder in dict.fromkeys(old.parent for old, _ in moves)]
    try:
        for source, target in [*((o, a) for o, a, _ in aside), *((a, n) for _, a, n in aside)]:
            os.rename(source, target)
            done.append((source, target))
    except OSError as error:
        for source, target in reversed(done):
            os.rename(target, source)
        _done_with(notes)
        name = aside[len(done) % len(aside)][0].name
        raise CannotRename(Said("disk-would-not-rename-all", name=name, strerror=error.strerror)) from error
    _done_with(notes)


def take_back_broken_off(folder: Path) -> str:
    """Give files their old names back where renaming them was broken off. Returns what was done, in a sentence."""
    note, count = folder / _NOTE, 0
    if not note.exists():
        return ""
    try:
        moves = [[folder / name for name in names] for names in json.loads(note.read_text("utf-8"))]
        if any(path.parent != folder for names in moves for path in names):
            raise ValueError
    except (ValueError, TypeError) as error:
        raise CannotRename(Said("map-cannot-be-read", note=_NOTE, folder=folder)) from error
    # First all names that are taken by now are freed, then each file gets its own.
    for old, aside, new in moves:
        if not aside.exists() and not old.exists() and new.exists():
            os.rename(new, aside)
    for old, aside, _ in moves:
        if aside.exists() and not old.exists():
            os.rename(aside, old)
            count += 1
    note.unlink()
    return Said("renaming-broken-off-here-before", count=count)


def _done_with(notes: Sequence[Path]) -> None:
    for note in notes:
        note.unlink(missing_ok=True)


def _noted(folder: Path, aside: Sequence[tuple[Path, Path, Path]]) -> Path:
    """Write down which file gets which name, on its way there and in the end."""
    note = folder / _NOTE
    names = [[path.name for path in paths] for paths in aside if paths[0].parent == folder]
    with whole(note, replace=True) as partial:
        partial.write_text(json.dumps(names), "utf-8")
    return note
