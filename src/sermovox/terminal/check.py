"""Finished files held against an outlet."""

import argparse

from mastering.editing.tables import write_table
from mastering.errors import MasteringError
from mastering.outlets.checksheet import check
from mastering.outlets.findings import FAIL
from mastering.tagging.carried import read_carried
from sermovox.terminal.said import (
    complain,
    outlet_of,
    print_json,
    print_sheet,
    row_of,
    takes_files,
    takes_outlet,
)
from sermovox.terminal.several import measured, takes_jobs

_SHEET_COLUMNS = ("file", "verdict of the file", "label", "asked", "found", "margin", "verdict", "advice", "source")


def add_arguments(command: argparse.ArgumentParser) -> None:
    takes_files(command)
    takes_outlet(command)
    takes_jobs(command)
    command.add_argument("--csv", action="store_true", help="as CSV, one line for each rule of each file")


def run(options) -> int:
    outlet = outlet_of(options.outlet)
    rows, status = [], 0
    for path, found in measured(options.files, options.jobs):
        if isinstance(found, MasteringError):
            status = complain(found, path)
            continue
        sheet = check(found, outlet, content_kind=options.content, carried=read_carried(path), name=path.name)
        if sheet.verdict == FAIL:
            status = 1
        rows.append(row_of(path, found, sheet))
        if not (options.json or options.csv):
            print_sheet(path, sheet, ())
    if options.csv:
        print(write_table(_SHEET_COLUMNS, _sheet_lines(rows)), end="")
    elif options.json:
        print_json(rows)
    return status


def _sheet_lines(rows: list[dict]):
    for row in rows:
        for finding in row["findings"]:
            yield (row["path"], row["verdict"], *(finding[name] for name in _SHEET_COLUMNS[2:]))
