"""All that is kept read against its SHA-256."""

import argparse
from pathlib import Path

from django.conf import settings

import sermovox.running.ready  # noqa: F401
from sermovox.cutting.verification import verify_lengths
from sermovox.deliveries.verification import verify_files
from sermovox.keeping import backups, rights
from sermovox.recordings.verification import verify, verify_pictures
from sermovox.terminal.database import migrated

_NAMED_OF_WIDER = 5


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("folders", nargs="*", type=Path, metavar="FOLDER", help="folders of backups to read as well")


def run(options) -> int:
    migrated()
    status = 0
    recordings = [(f"{each.sha256}, which is {', '.join(each.names)},", each.state) for each in verify()]
    parts = [
        ("recordings", recordings, "Bring it in again from your own copy, or take it from a backup."),
        ("finished files", verify_files(), "Make it again."),
        ("pictures", ((f"Picture {name}", state) for name, state in verify_pictures()), "Choose it again."),
    ]
    nightly = [settings.BACKUPS_DIR] if settings.BACKUPS_DIR and backups.copies_in(settings.BACKUPS_DIR) else []
    for folder in dict.fromkeys([*nightly, *options.folders]):
        parts.append((f"files of backups in {folder}", backups.verify(folder), "Make a backup once more."))
    for kind, found, advice in parts:
        counts = {"whole": 0, "damaged": 0, "missing": 0}
        for said, state in found:
            counts[state] += 1
            if state != "whole":
                status = 1
                print(f"{said} is {state}. {advice}")
        print(f"{counts['whole']} {kind} are whole, {counts['damaged']} damaged, {counts['missing']} missing.")
    wider = [path for folder in (Path(settings.DATA_DIR), *nightly) for path in rights.wider(folder)]
    for path in wider[:_NAMED_OF_WIDER]:
        print(f"{path} could be read by others on this machine. It can no more.")
    print(f"{len(wider)} files and folders could be read by others on this machine, and can no more.")
    lengths = list(verify_lengths())
    mended = [said for said, right in lengths if not right]
    for said in mended:
        print(f"{said} was not as long as was kept of it. That is mended.")
    print(f"{len(lengths) - len(mended)} lengths of sections are right, {len(mended)} were wrong and are mended.")
    return status
