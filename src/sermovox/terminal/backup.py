"""Everything copied into a folder."""

import argparse
from pathlib import Path

import sermovox.running.ready  # noqa: F401
from mastering.errors import MasteringError
from sermovox.keeping import backups
from sermovox.terminal.complaints import complain
from sermovox.terminal.database import migrated
from sermovox.terminal.said import Progress, told_wrong


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("folder", type=Path, metavar="FOLDER", help="where backups lie; only what is new is copied")
    command.add_argument("--keep", type=int, metavar="N", help="how many backups stay; older ones go (default: all)")


def run(options) -> int:
    migrated()
    if options.keep is not None and options.keep < 1:
        return complain(MasteringError("At least one backup has to stay: --keep 1 or more."))
    outcome = backups.back_up(options.folder, keep=options.keep, told=Progress("Copying"))
    print(
        f"Backup {outcome.copy.name} is made: {outcome.files} files, {outcome.copied_bytes / 1e6:.1f} MB of them new."
    )
    return told_wrong(outcome)
