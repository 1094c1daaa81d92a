"""Figures of recordings."""

import argparse
from pathlib import Path

from mastering.clock import clock
from mastering.errors import MasteringError
from sermovox.terminal.complaints import complain
from sermovox.terminal.said import (
    print_json,
    takes_files,
)
from sermovox.terminal.several import measured, takes_jobs


def add_arguments(command: argparse.ArgumentParser) -> None:
    takes_files(command)
    takes_jobs(command)


def run(options) -> int:
    rows, status = [], 0
    for path, found in measured(options.files, options.jobs):
        if isinstance(found, MasteringError):
            status = complain(found, path)
            continue
        figures = found.figures()
        rows.append({"path": str(path)} | figures)
        if not options.json:
            _print_figures(path, figures)
    if options.json:
        print_json(rows)
    return status


def _print_figures(path: Path, figures: dict) -> None:
    print(path)
    for name, value in figures.items():
        shown = "–" if value is None else clock(value) if name == "duration_s" else value
        print(f"  {name:22} {shown}")
