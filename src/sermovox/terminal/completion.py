"""What lets a shell complete these commands and their options."""

import argparse

import shtab

from mastering.said import Said
from sermovox.terminal import COMMANDS

_SHELLS = ("bash", "zsh", "fish")


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("shell", choices=_SHELLS, help=Said("shell-it-is-for"))


def run(options) -> int:
    print(shtab.complete(options.parser(list(COMMANDS)), options.shell))
    return 0
