"""The productions there are."""

import argparse

import sermovox.running.ready  # noqa: F401
from sermovox.productions.models import Production
from sermovox.terminal.database import migrated


def add_arguments(command: argparse.ArgumentParser) -> None:
    """It takes none."""


def run(options) -> int:
    migrated()
    for production in Production.objects.all():
        print(f"{production.key:40} {production.title}")
    return 0
