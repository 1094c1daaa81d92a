"""Everything copied into a folder."""

import argparse
from pathlib import Path

import sermovox.running.ready  # noqa: F401
from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.keeping import backups
from sermovox.running.speaking import say
from sermovox.terminal.complaints import complain
from sermovox.terminal.database import migrated
from sermovox.terminal.said import Progress, told_wrong


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("folder", type=Path, metavar="FOLDER", help=Said("where-backups-lie-only-what"))
    command.add_argument("--keep", type=int, metavar="N", help=Said("how-many-backups-stay-older"))


def run(options) -> int:
    migrated()
    if options.keep is not None and options.keep < 1:
        return complain(MasteringError(Said("least-one-backup-stay-keep")))
    outcome = backups.back_up(options.folder, keep=options.keep, told=Progress(Said("copying")))
    say(
        Said(
            "backup-made-files-mb-them",
            name=outcome.copy.name,
            files=outcome.files,
            copied_bytes=outcome.copied_bytes / 1e6,
        )
    )
    return told_wrong(outcome)
