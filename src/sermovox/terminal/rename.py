"""Files renamed by a map."""

import argparse
import sys
from pathlib import Path

from mastering.editing.texts import decoded
from mastering.naming.renaming import new_names, read_map, rename_all, take_back_broken_off
from mastering.said import Said
from sermovox.running.speaking import say


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("map", type=Path, metavar="MAP.csv")
    command.add_argument("--in", dest="folder", type=Path, required=True, metavar="DIR", help=Said("folder-files"))
    command.add_argument("--undo", action="store_true", help=Said("give-new-names-their-old"))


def run(options) -> int:
    if said := take_back_broken_off(options.folder):
        say(said, file=sys.stderr)
    pairs = read_map(decoded(options.map.read_bytes())[0])
    if options.undo:
        pairs = [(new, old) for old, new in pairs]
    names = sorted(path.name for path in options.folder.iterdir() if path.is_file())
    after = new_names(names, pairs)
    moves = [(options.folder / old, options.folder / new) for old, new in zip(names, after, strict=True) if old != new]
    rename_all(moves)
    say(Said("files-are-renamed", count=len(moves)))
    return 0
