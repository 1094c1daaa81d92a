"""What was sent, where and when, and whether it arrived."""

import argparse

import sermovox.running.ready  # noqa: F401
from mastering.said import Said
from sermovox.dispatch.models import Dispatch
from sermovox.dispatch.receipts import as_dict
from sermovox.running.speaking import spoken
from sermovox.terminal.database import migrated
from sermovox.terminal.said import print_json


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("--outlet", metavar="KEY", help=Said("only-those-one-outlet"))
    command.add_argument("--json", action="store_true", help=Said("all-json-file-file"))


def run(options) -> int:
    migrated()
    dispatches = Dispatch.objects.select_related("owner").order_by("pk")
    if options.outlet:
        dispatches = dispatches.filter(outlet_key=options.outlet)
    if options.json:
        print_json([as_dict(dispatch) for dispatch in dispatches])
    else:
        for dispatch in dispatches:
            count = dispatch.parts.count()
            said = f": {spoken(dispatch.said)}" if dispatch.said else ""
            files = spoken(Said("files-2", count=count))
            state = spoken(dispatch.state)
            print(f"{dispatch.created_at:%Y-%m-%d %H:%M}  {state:9} {files:>10}  {spoken(str(dispatch))}{said}")
    return int(any(dispatch.state == Dispatch.State.STUCK for dispatch in dispatches))
