"""An empty data folder filled from a backup."""

import argparse
from pathlib import Path

from django.conf import settings

import sermovox.running.ready  # noqa: F401
from mastering.said import Said
from sermovox.keeping import backups
from sermovox.running.speaking import say
from sermovox.terminal.said import Progress, told_wrong


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("folder", type=Path, metavar="FOLDER", help=Said("where-backups-lie"))
    command.add_argument("--copy", default="", metavar="NAME", help=Said("which-backup-default-newest"))
    command.add_argument("--list", action="store_true", help=Said("only-list-backups-there"))


def run(options) -> int:
    if options.list:
        for copy in backups.copies_in(options.folder):
            print(copy.name)
        return 0
    outcome = backups.bring_back(options.folder, name=options.copy, told=Progress(Said("bringing-back")))
    say(Said("backup-back-files", name=outcome.copy.name, data_dir=settings.DATA_DIR, files=outcome.files))
    say(Said("nothing-sent-taken-done-itself"))
    return told_wrong(outcome)
