"""Finished files held against an outlet."""

import argparse
import sys
from pathlib import Path

from mastering.editing.tables import write_table
from mastering.errors import MasteringError
from mastering.outlets import reports
from mastering.outlets.checksheet import check
from mastering.outlets.findings import FAIL
from mastering.outlets.outlet import Outlet
from mastering.outlets.reports import Checked
from mastering.said import Said
from mastering.tagging.carried import read_carried
from sermovox.running.speaking import LANGUAGE, say
from sermovox.terminal.complaints import complain
from sermovox.terminal.said import (
    Summary,
    outlet_of,
    print_json,
    print_sheet,
    row_of,
    takes_files,
    takes_outlet,
    takes_quiet,
)
from sermovox.terminal.several import measured, takes_jobs
from sermovox.ui.sheets import as_pdf

_SHEET_COLUMNS = ("file", "verdict of the file", "label", "asked", "found", "margin", "verdict", "advice", "source")


def add_arguments(command: argparse.ArgumentParser) -> None:
    takes_files(command)
    takes_outlet(command)
    takes_jobs(command)
    takes_quiet(command)
    command.add_argument("--csv", action="store_true", help=Said("csv-one-line-each-rule"))
    command.add_argument(
        "--reports",
        type=Path,
        metavar="DIR",
        help=Said("folder-report-page-pdf-text"),
    )


def run(options) -> int:
    outlet = outlet_of(options.outlet)
    rows, sheets, status = [], [], 0
    summary = Summary(options.files, made=False)
    for path, found in measured(options.files, options.jobs):
        if isinstance(found, MasteringError):
            status, summary.refused = complain(found, path), summary.refused + 1
            sheets.append(Checked(path.name, "cannot be checked", said=str(found)))
            continue
        sheet = check(found, outlet, content_kind=options.content, carried=read_carried(path), name=path.name)
        if sheet.verdict == FAIL:
            status = 1
        rows.append(row_of(path, found, sheet))
        summary.add(path, sheet.verdict)
        sheets.append(Checked(path.name, sheet.verdict, sheet.as_list(), found.figures()))
        if not (options.json or options.csv) and (sheet.verdict == FAIL or not options.quiet):
            print_sheet(path, sheet, ())
    if options.csv:
        print(write_table(_SHEET_COLUMNS, _sheet_lines(rows)), end="")
    elif options.json:
        print_json(rows)
    if options.reports:
        _write(options.reports, outlet, sheets)
        say(Said("reports", reports=options.reports), file=sys.stderr)
    summary.tell()
    return status


def _sheet_lines(rows: list[dict]):
    """By their paths, as files of several folders may have one name, and under the names this always had."""
    for row in rows:
        for finding in row["findings"]:
            yield (row["path"], row["verdict"], *(finding[name] for name in _SHEET_COLUMNS[2:]))


def _write(folder: Path, outlet: Outlet, files: list[Checked]) -> None:
    """All reports into a folder, made where it is not there. Earlier reports there are written over."""
    folder.mkdir(parents=True, exist_ok=True)
    title, told = reports.heading(outlet), reports.told(files)
    for name, text in (
        ("report.html", reports.as_html(title, told, files, LANGUAGE)),
        ("report.txt", reports.as_text(outlet, files, LANGUAGE)),
        ("report.csv", reports.as_csv(files)),
        ("report.json", reports.as_json(outlet, files)),
    ):
        (folder / name).write_text(text, encoding="utf-8")
    (folder / "report.pdf").write_bytes(as_pdf(title, title, told, files, LANGUAGE))
