"""All that is kept read against its SHA-256."""

import argparse
from pathlib import Path

from django.conf import settings

import sermovox.running.ready  # noqa: F401
from mastering.said import Said, word
from sermovox.cutting.verification import verify_lengths
from sermovox.deliveries.verification import verify_files
from sermovox.keeping import backups, rights
from sermovox.recordings.verification import verify, verify_pictures
from sermovox.running.speaking import say
from sermovox.terminal.database import migrated

_NAMED_OF_WIDER = 5


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("folders", nargs="*", type=Path, metavar="FOLDER", help=Said("folders-backups-read-well"))


def run(options) -> int:
    migrated()
    status = 0
    recordings = [(f"{each.sha256}, which is {', '.join(each.names)},", each.state) for each in verify()]
    parts = [
        ("recordings", recordings, Said("bring-again-from-your-own")),
        ("finished files", verify_files(), Said("make-it-again")),
        (
            "pictures",
            ((Said("picture-name", name=name), state) for name, state in verify_pictures()),
            Said("choose-it-again"),
        ),
    ]
    nightly = [settings.BACKUPS_DIR] if settings.BACKUPS_DIR and backups.copies_in(settings.BACKUPS_DIR) else []
    for folder in dict.fromkeys([*nightly, *options.folders]):
        parts.append((Said("files-backups", folder=folder), backups.verify(folder), Said("make-backup-once-more")))
    for kind, found, advice in parts:
        counts = {"whole": 0, "damaged": 0, "missing": 0}
        for said, state in found:
            counts[state] += 1
            if state != "whole":
                status = 1
                say(Said("is-in-state", said=said, state=word(state), advice=advice))
        say(
            Said(
                "whole-damaged-missing",
                counts=counts["whole"],
                kind=word(kind),
                counts_2=counts["damaged"],
                counts_3=counts["missing"],
            )
        )
    wider = [path for folder in (Path(settings.DATA_DIR), *nightly) for path in rights.wider(folder)]
    for path in wider[:_NAMED_OF_WIDER]:
        say(Said("could-read-others-machine-can", path=path))
    say(Said("files-folders-could-read-others", count=len(wider)))
    lengths = list(verify_lengths())
    mended = [said for said, right in lengths if not right]
    for said in mended:
        say(Said("not-long-kept-mended", said=said))
    say(Said("lengths-sections-right-were-wrong", lengths_count=len(lengths) - len(mended), mended_count=len(mended)))
    return status
