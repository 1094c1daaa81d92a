"""The demonstration: productions to try everything on, in a data folder of their own."""

import argparse
import os
from importlib import import_module

from platformdirs import user_data_path

from mastering.said import Said


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("--port", type=int, default=8420, help=Said("port-listen-default-default-s"))
    command.add_argument("--workers", type=int, default=os.cpu_count() or 1, help=Said("files-made-once-default-one"))


def run(options) -> int:
    os.environ.setdefault("SERMOVOX_DATA", str(user_data_path("sermovox") / "demo"))
    options.host, options.demo = "127.0.0.1", True
    # Read only now, when it is settled where the data lies.
    return import_module("sermovox.terminal.start").run(options)
