"""Figures of recordings."""

import argparse
from pathlib import Path

from mastering.clock import clock
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from sermovox.terminal.said import (
    complain,
    print_json,
    takes_files,
)


def add_arguments(command: argparse.ArgumentParser) -> None:
    takes_files(command)


def run(options) -> int:
    rows, status = [], 0
    for path in options.files:
        try:
            figures = measure(path).figures()
        except MasteringError as error:
            status = complain(error, path)
            continue
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
