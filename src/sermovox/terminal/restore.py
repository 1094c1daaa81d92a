"""An empty data folder filled from a backup."""

import argparse
from pathlib import Path

from django.conf import settings

import sermovox.running.ready  # noqa: F401
from sermovox.keeping import backups
from sermovox.terminal.said import Progress, told_wrong


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("folder", type=Path, metavar="FOLDER", help="where backups lie")
    command.add_argument("--copy", default="", metavar="NAME", help="which backup (default: the newest)")
    command.add_argument("--list", action="store_true", help="only list the backups there are")


def run(options) -> int:
    if options.list:
        for copy in backups.copies_in(options.folder):
            print(copy.name)
        return 0
    outcome = backups.bring_back(options.folder, name=options.copy, told=Progress("Bringing back"))
    print(f"Backup {outcome.copy.name} is back in {settings.DATA_DIR}: {outcome.files} files.")
    print("Nothing is sent, taken in or done by itself there until somebody says on one of its pages that it goes on.")
    return told_wrong(outcome)
