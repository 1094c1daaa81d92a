"""The terminal's commands that keep everything safe: backup, restore, verify."""

import os
import sys
import time
from pathlib import Path

from mastering.errors import MasteringError
from sermovox.terminal import complain, set_up


def add_commands(commands) -> None:
    """Add the commands to an argument parser."""
    backing = commands.add_parser("backup", help="copy everything into a folder, while everything runs")
    backing.add_argument("folder", type=Path, metavar="FOLDER", help="where backups lie; only what is new is copied")
    backing.add_argument("--keep", type=int, metavar="N", help="how many backups stay; older ones go (default: all)")
    backing.set_defaults(run=_back_up)

    restoring = commands.add_parser("restore", help="fill an empty data folder from a backup")
    restoring.add_argument("folder", type=Path, metavar="FOLDER", help="where backups lie")
    restoring.add_argument("--copy", default="", metavar="NAME", help="which backup (default: the newest)")
    restoring.add_argument("--list", action="store_true", help="only list the backups there are")
    restoring.set_defaults(run=_restore)

    verifying = commands.add_parser(
        "verify", help="read recordings, finished files, pictures and backups against their SHA-256"
    )
    verifying.add_argument("folders", nargs="*", type=Path, metavar="FOLDER", help="folders of backups to read as well")
    verifying.set_defaults(run=_verify)


def _back_up(options) -> int:
    set_up()
    from sermovox import backups

    if options.keep is not None and options.keep < 1:
        return complain(MasteringError("At least one backup has to stay: --keep 1 or more."))
    outcome = backups.back_up(options.folder, keep=options.keep, told=_Progress("Copying"))
    print(
        f"Backup {outcome.copy.name} is made: {outcome.files} files, {outcome.copied_bytes / 1e6:.1f} MB of them new."
    )
    return _told_wrong(outcome)


def _restore(options) -> int:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "sermovox.settings")
    import django

    django.setup()
    from django.conf import settings

    from sermovox import backups

    if options.list:
        for copy in backups.copies_in(options.folder):
            print(copy.name)
        return 0
    outcome = backups.bring_back(options.folder, name=options.copy, told=_Progress("Bringing back"))
    print(f"Backup {outcome.copy.name} is back in {settings.DATA_DIR}: {outcome.files} files.")
    return _told_wrong(outcome)


def _told_wrong(outcome) -> int:
    for sentence in outcome.wrong:
        print(f"  {sentence}", file=sys.stderr)
    return 1 if outcome.wrong else 0


def _verify(options) -> int:
    set_up()
    from django.conf import settings

    from sermovox import backups
    from sermovox.deliveries.verification import verify_files
    from sermovox.recordings.verification import verify, verify_pictures

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
    return status


class _Progress:
    """A line on the terminal with how much is done and how long the rest takes."""

    def __init__(self, words: str):
        self._words, self._began, self._told_at = words, time.monotonic(), 0.0

    def __call__(self, done: int, whole: int) -> None:
        now = time.monotonic()
        if not sys.stderr.isatty() or (now - self._told_at < 0.2 and done < whole):
            return
        self._told_at = now
        left = f", about {(now - self._began) * (whole - done) / done:.0f} s left" if 0 < done < whole else ""
        end = "\n" if done >= whole else ""
        print(f"\r{self._words}: {done / max(1, whole):.0%}{left}\033[K", end=end, file=sys.stderr, flush=True)
