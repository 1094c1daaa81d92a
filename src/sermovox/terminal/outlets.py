"""The outlets there are, and their rule sheets."""

import argparse

from mastering.outlets.rulesheets import shipped, written
from mastering.said import Said
from sermovox.running.speaking import spoken
from sermovox.terminal.said import (
    outlet_of,
    print_json,
)


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("key", nargs="?", metavar="KEY", help=Said("outlet-whose-rule-sheet-written"))
    command.add_argument("--json", action="store_true", help="as JSON")


def run(options) -> int:
    if options.key:
        print(written(outlet_of(options.key)), end="")
        return 0
    if options.json:
        print_json([{"key": o.key, "title": o.title, "summary": o.summary} for o in shipped().values()])
        return 0
    for outlet in shipped().values():
        print(f"{outlet.key:20} {outlet.title}\n{'':20} {spoken(outlet.summary)}")
    return 0
