"""The tags of files held against an outlet's, and written."""

import argparse
from pathlib import Path

from mastering.errors import MasteringError
from mastering.naming.patterns import facts_of
from mastering.outlets.filled_in import inscription_for
from mastering.said import Said
from mastering.tagging.artwork import picture_for
from mastering.tagging.carried import read_carried
from mastering.tagging.inscription import TAGS, differing
from mastering.tagging.writing import reinscribe
from sermovox.running.speaking import spoken
from sermovox.terminal.complaints import complain
from sermovox.terminal.said import (
    outlet_of,
    print_json,
    takes_files,
    takes_outlet,
)
from sermovox.terminal.shared import facts_given, takes_facts


def add_arguments(command: argparse.ArgumentParser) -> None:
    takes_files(command)
    takes_outlet(command)
    takes_facts(command)
    command.add_argument("--write", action="store_true", help=Said("write-them-sound-not-touched"))


def run(options) -> int:
    outlet = outlet_of(options.outlet)
    picture = picture_for(outlet.artwork, options.artwork.read_bytes() if options.artwork else b"")
    rows, status = [], 0
    for path, facts in zip(options.files, facts_of(facts_given(options), lines=True), strict=True):
        try:
            has = read_carried(path)
            if not has.container:
                raise MasteringError(Said("there-no-sound-file-could"))
            given, _ = inscription_for(outlet, facts, container=has.container, picture=picture)
            if options.write:
                reinscribe(path, has.container, given)
                has = read_carried(path)
        except MasteringError as error:
            status = complain(error, path)
            continue
        names = differing(has.tags, given.tags)
        rows.append(
            {"path": str(path), "tags": has.tags, "form": has.form, "picture_bytes": len(has.picture)}
            | {"differing": {name: given.tags.get(name, "") for name in names}}
        )
        if not options.json:
            _print_tags(path, has.tags, given.tags)
    if options.json:
        print_json(rows)
    return status


def _print_tags(path: Path, has: dict[str, str], wanted: dict[str, str]) -> None:
    print(path)
    names = differing(has, wanted)
    for name, label in TAGS.items():
        if name in names:
            print(f"  ≠ {spoken(label):22} {has.get(name) or '–'}\n    {'':22} {wanted.get(name) or '–'}")
        elif name in has:
            print(f"    {spoken(label):22} {has[name]}")
