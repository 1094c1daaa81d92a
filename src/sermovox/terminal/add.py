"""Recordings of this machine brought into a production."""

import argparse

import sermovox.running.ready  # noqa: F401
from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.productions.models import Production
from sermovox.recordings.intake import take_in
from sermovox.running.speaking import spoken
from sermovox.terminal.complaints import complain
from sermovox.terminal.database import migrated
from sermovox.terminal.said import (
    takes_paths,
)


def add_arguments(command: argparse.ArgumentParser) -> None:
    takes_paths(command)
    command.add_argument("--production", required=True, metavar="KEY", help=Said("see-sermovox-productions"))


def run(options) -> int:
    migrated()
    production = Production.objects.filter(key=options.production).first()
    if production is None:
        keys = ", ".join(Production.objects.values_list("key", flat=True)) or Said("none-yet")
        return complain(MasteringError(Said("there-no-production-there", production=options.production, keys=keys)))
    status = 0
    for path in options.files:
        try:
            taken = take_in(production, path)
        except MasteringError as error:
            status = complain(error, path)
            continue
        said = Said("here-already", name=taken.recording.name) if taken.known else Said("slip-follows-when-measured")
        print(f"{path} {spoken(said)}.")
    return status
